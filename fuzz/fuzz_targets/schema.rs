//! Any text as a schema: no panic, and every mistake has a place inside it.
#![no_main]

use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    let files = [("s.toml".to_owned(), text.to_owned())];
    let (_, problems) = stitching_core::schema::read(&files, &["en".to_owned(), "de".to_owned()]);
    for problem in problems {
        assert!(problem.place.line >= 1 && problem.place.start as usize <= text.len(), "{problem:?}");
    }
});
