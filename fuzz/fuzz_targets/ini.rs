//! Any bytes as a file of the format `ini`.
#![no_main]

stitching_fuzz::fuzz_formats!(
    (r#"{ kind = "ini", trailing = true, repeated_keys = "apart", head = "top" }"#, &["a","b","{section}"]),
    (r#"{ kind = "ini", goes_on = "backslash", repeated_sections = "merge", repeated_keys = "last" }"#, &["a","b"]),
    (r#"{ kind = "ini", records = "keys", goes_on = "indent", quotes = false }"#, &["{section}","{key}","{value}"]),
);
