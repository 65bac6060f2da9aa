//! Any texts as the files of the history, the position before the first line end: no panic, and nothing beside the mod
//! is touched, whatever is listed, undone and made again.
#![no_main]

use libfuzzer_sys::fuzz_target;
use stitching_core::journal::ChangedSince;
use stitching_fuzz::journal_world::World;

fuzz_target!(|data: &[u8]| {
    let cut = data.iter().position(|byte| *byte == b'\n').unwrap_or(data.len());
    let (position, entry) = data.split_at(cut);
    let files = [("history/position.json", position), ("history/000001.json", entry.get(1..).unwrap_or_default())];
    let world = World::new(&files);
    world.with_journal(|journal| {
        let _ = journal.history();
    });
    world.with_journal(|journal| {
        let _ = journal.undo(ChangedSince::Leave);
    });
    world.with_journal(|journal| {
        let _ = journal.redo(ChangedSince::Leave);
    });
});
