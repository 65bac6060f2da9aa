//! Any bytes as a file of the format `xml`.
#![no_main]

stitching_fuzz::fuzz_formats!(
    (r#"{ kind = "xml", records = "//*" }"#, &["a","@b","."]),
    (r#"{ kind = "xml", records = "/a/*" }"#, &["name()","../@b","b/text()"]),
    (r#"{ kind = "xml", records = "//a[@b='1'][c]" }"#, &["*/@c","@b"]),
);
