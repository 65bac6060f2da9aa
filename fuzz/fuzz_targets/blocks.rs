//! Any bytes as a file of the format `blocks`.
#![no_main]

stitching_fuzz::fuzz_formats!(
    (r##"{ kind = "blocks", records = "**/*", comment = ["#", "//"], escapes = true }"##, &["a","{name}","{label}"]),
    (r##"{ kind = "blocks", entries = "**/*", assign = "", comment = "//", include = "#include" }"##, &["{name}","{value}"]),
    (r#"{ kind = "blocks", items = "" }"#, &["{value}"]),
    (r#"{ kind = "blocks", nesting = "indent", records = "**/*", escapes = true }"#, &["a","{name}","{label}"]),
    (r#"{ kind = "blocks", nesting = "indent", assign = "", records = "*", over_lines = true }"#, &["{name}","{2+}"]),
);
