//! Any bytes as a file of the format `json`.
#![no_main]

stitching_fuzz::fuzz_formats!(
    (r#"{ kind = "json", records = "$..*" }"#, &["a","b"]),
    (r#"{ kind = "json", records = "$[*]", comments = true, trailing_commas = true }"#, &["a", "{member}", "{parent}.b", "b.*.{member}"]),
);
