//! Changes: values that can be shown, tried out in memory, and handed to the journal.

mod add;
mod assignment;
mod belongings;
mod builder;
mod change;
mod change_set;
mod column_style;
mod copy;
mod copy_folder;
mod field_value;
mod fix;
mod in_step;
mod list_edit;
mod named;
mod new_values;
mod on_disk;
mod overlay;
mod preview;
mod recipe;
mod recipe_draft;
mod record_finder;
mod remove;
mod rename;
mod renumber;
mod rewrite;
mod row_values;
mod sequence;
mod set;
mod step;
mod switch;
mod transfer;
mod unused_values;
mod verify;

pub use add::{AddRequest, RecordPlace, add};
pub use builder::Builder;
pub use change::{Change, FileChange, FolderChange, Note, OwnChange, Source};
pub use change_set::{
    ChangeSet, ChangedField, ChangedRecord, ChosenBy, Conflict, HowChanged, OnConflict, RenamedRecord, apply,
};
pub use copy::{CopyRequest, Join, copy};
pub use copy_folder::copy_folder;
pub use fix::{FixRequest, fix};
pub use in_step::{in_step, refresh};
pub use on_disk::{DiskChange, DiskContent};
pub use preview::unified_diff;
pub use recipe::{find_recipe, parameter_value, run_recipe};
pub use recipe_draft::draft;
pub use remove::{RemoveRequest, remove};
pub use rename::{NewKeys, rename, rename_many, rename_with};
pub use renumber::{Renumbering, renumber};
pub use sequence::Sequence;
pub use set::{SetRequest, Sheet, SheetLine, set};
pub use step::Step;
pub use switch::{switch_off, switch_on};
pub use transfer::{find_transfer, transfer};
pub use verify::verify;
