//! Any text as the record of an interrupted change, once with the user's own mark and once without: no panic, nothing
//! beside the mod is touched, and what is not marked changes nothing at all.
#![no_main]

use libfuzzer_sys::fuzz_target;
use stitching_core::journal::{ChangedSince, Recovered};
use stitching_fuzz::journal_world::World;

fuzz_target!(|data: &[u8]| {
    let world = World::new(&[("pending.json", data)]);
    world.with_journal(|journal| {
        assert!(matches!(journal.recover(), Ok(Recovered::Foreign(_)) | Err(_)));
    });
    let Ok(change) = std::str::from_utf8(data) else { return };
    let mark = world.key().sign(data).expect("a mark");
    let quoted: String = change
        .chars()
        .map(|c| match c {
            '"' => "\\\"".to_owned(),
            '\\' => "\\\\".to_owned(),
            c if c.is_control() => format!("\\u{:04x}", u32::from(c)),
            c => c.to_string(),
        })
        .collect();
    let record = format!("{{\"mark\":\"{mark}\",\"change\":\"{quoted}\"}}");
    let world = World::new(&[("pending.json", record.as_bytes())]);
    world.with_journal(|journal| {
        let _ = journal.recover();
    });
    world.with_journal(|journal| {
        let _ = journal.undo(ChangedSince::Leave);
    });
});
