//! Maps of what is known by a hash already.

use std::hash::{BuildHasherDefault, Hasher};

/// A map of 64-bit hashes, which are not hashed again.
pub(crate) type ByHash<V> = hashbrown::HashMap<u64, V, BuildHasherDefault<Itself>>;

/// The hash of a hash: itself.
#[derive(Debug, Default, Clone, Copy)]
pub(crate) struct Itself(u64);

impl Hasher for Itself {
    fn finish(&self) -> u64 {
        self.0
    }

    fn write(&mut self, bytes: &[u8]) {
        bytes.iter().for_each(|byte| self.0 = self.0 << 8 | u64::from(*byte));
    }

    fn write_u64(&mut self, value: u64) {
        self.0 = value;
    }
}
