//! Any bytes as an archive: no panic, no file outside it, bounded memory; and an archive that can be
//! written comes back to the byte.
#![no_main]

use libfuzzer_sys::fuzz_target;
use std::path::PathBuf;
use std::sync::OnceLock;
use stitching_core::layers::{Archive, EntryChange};

fn place() -> &'static PathBuf {
    static PLACE: OnceLock<PathBuf> = OnceLock::new();
    PLACE.get_or_init(|| {
        let folder = tempfile::tempdir().expect("a folder").keep();
        folder.join("fuzz.zip")
    })
}

fuzz_target!(|data: &[u8]| {
    std::fs::write(place(), data).expect("written");
    let Ok(archive) = Archive::open(place(), None, &mut |_, _| {}) else { return };
    let mut buffer = Vec::new();
    for (index, entry) in archive.entries().iter().enumerate() {
        let Some(path) = &entry.path else { continue };
        assert!(!path.as_str().split('/').any(|part| part == ".."));
        if archive.read(index, &mut buffer).is_err() {
            continue;
        }
        assert_eq!(buffer.len() as u64, entry.size);
        if let Ok(patch) = archive.patch(&[(index, EntryChange::Replace(b"other bytes".to_vec()))], &[]) {
            let after = patch.apply(data).expect("inside");
            let back = archive.reversed(&patch).expect("inside");
            assert_eq!(back.apply(&after).expect("inside"), data);
        }
    }
});
