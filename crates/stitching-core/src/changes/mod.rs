//! Changes: values that can be shown, tried out in memory, and handed to the journal.

mod add;
mod assignment;
mod belongings;
mod builder;
mod change;
mod column_style;
mod copy;
mod field_value;
mod fix;
mod list_edit;
mod new_values;
mod on_disk;
mod overlay;
mod preview;
mod record_finder;
mod remove;
mod rename;
mod rewrite;
mod row_values;
mod set;
mod switch;
mod unused_values;
mod verify;

pub use add::{AddRequest, RecordPlace, add};
pub use builder::Builder;
pub use change::{Change, FileChange, FolderChange, Note, OwnChange, Source};
pub use copy::{CopyRequest, Join, copy};
pub use fix::{FixRequest, fix};
pub use on_disk::{DiskChange, DiskContent};
pub use preview::unified_diff;
pub use remove::{RemoveRequest, remove};
pub use rename::{NewKeys, rename, rename_many, rename_with};
pub use set::{SetRequest, Sheet, SheetLine, set};
pub use switch::{switch_off, switch_on};
pub use verify::verify;
