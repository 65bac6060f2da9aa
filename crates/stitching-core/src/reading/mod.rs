//! How the bytes of files are looked at: wholly, block by block, or only where a search finds something; and what is
//! known of them from before.

mod byte_prefilter;
mod excerpt;
mod file_facts;
mod loaded;
mod lookup;
mod raw_bytes;
mod scan;
mod view;

pub(crate) use byte_prefilter::BytePrefilter;
pub(crate) use excerpt::Excerpt;
pub use file_facts::{FactsCache, FileFault, IndexedFile, IndexedParts};
pub(crate) use file_facts::{file_facts, targets};
pub use loaded::{LoadedFile, PlaceResolver, load, with_blocks, with_text};
pub(crate) use loaded::{start_of, with_pieces, with_start};
pub(crate) use lookup::{key_hashes, prepare};
pub(crate) use raw_bytes::{ByteNeedles, bytes_have};
pub(crate) use scan::glance;
pub use scan::{FileHits, Needles, TableScan, fingerprint, scan};
pub use view::View;
