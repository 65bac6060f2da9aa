//! Changes: values that can be shown, tried out in memory, and handed to the journal.

mod change;
mod preview;
mod rename;
mod verify;

pub use change::{Change, DiskChange, DiskContent, FileChange, Note};
pub use preview::unified_diff;
pub use rename::rename;
pub use verify::verify;
