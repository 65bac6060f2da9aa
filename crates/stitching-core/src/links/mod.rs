//! The reference index, what names a record, and who uses what.

mod address;
mod belonging;
mod by_use;
mod by_value;
mod index;
mod labels;
mod overrides;
mod switched;
mod uses;

pub use address::{Address, Found, FoundPlace, find_table, resolve};
pub(crate) use address::{find_by_keys, find_in_any_case, find_records};
pub use belonging::{belongs_by, named_by};
pub use by_use::{NameInUse, names_in_use};
pub use by_value::find_by_value;
pub use index::{Index, RecordId, TableFile, TableIndex};
pub use labels::{Labels, language_fields};
pub(crate) use labels::{label_key, text_key, texts_with};
pub use overrides::Overrides;
pub use switched::{Switched, SwitchedBy, switched, switched_in};
pub(crate) use uses::own_part;
pub use uses::{ReferenceMatcher, Thing, Use, find_uses, second_identifiers, things_of, wanted};
