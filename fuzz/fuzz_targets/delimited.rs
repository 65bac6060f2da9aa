//! Any bytes as a file of the format `delimited`.
#![no_main]

stitching_fuzz::fuzz_formats!(
    (r##"{ kind = "delimited", comment = "#" }"##, &["a","b"]),
    (r#"{ kind = "delimited", delimiter = ";", trim = true, closed = true }"#, &["a","b"]),
    (r#"{ kind = "delimited", delimiter = "¦", quotes = true, header = false, columns = ["a", "b"] }"#, &["a","b"]),
    (r#"{ kind = "delimited", delimiter = "blanks", comment = ";" }"#, &["a","b"]),
);
