//! The reference index, what names a record, and who uses what.

mod address;
mod details;
mod excerpt;
mod index;
mod labels;
mod loaded;
mod lookup;
mod overrides;
mod quick;
mod raw;
mod scan;
mod search;
mod switched;
mod uses;

pub(crate) use address::find_records;
pub use address::{Address, Found, FoundPlace, find_table, resolve};
pub use details::{Details, FieldDetail, details, read_record};
pub use index::{FactsCache, FileFault, Index, IndexedFile, RecordId, TableFile, TableIndex};
pub use labels::Labels;
pub use loaded::{LoadedFile, Places, load, with_blocks, with_text};
pub(crate) use loaded::{start_of, with_pieces, with_start};
pub use overrides::Overrides;
pub use scan::{FileHits, Needles, TableScan, fingerprint, scan};
pub use search::{Matched, Search, SearchHit, Seen, search};
pub use switched::{Switched, SwitchedBy, switched, switched_in};
pub use uses::{Thing, Use, Wanted, find_uses, things_of, wanted};
pub(crate) use uses::{add_key_fields, own_part};
