//! Any bytes as a file of the format `po`.
#![no_main]

stitching_fuzz::fuzz_formats!(
    (r#"{ kind = "po" }"#, &["msgctxt","msgid","msgstr"]),
);
