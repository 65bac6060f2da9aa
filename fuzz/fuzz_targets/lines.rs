//! Any bytes as a file of the format `lines`.
#![no_main]

stitching_fuzz::fuzz_formats!(
    (r##"{ kind = "lines", line = '{a} = "{b}"[ # {c}]', comment = ["//"] }"##, &["a","b"]),
    (r##"{ kind = "lines", line = '{a} = "{b}"', comment = "#", trailing = true, over_lines = true }"##, &["a","b"]),
    (r#"{ kind = "lines", line = "{a}:{b}", anywhere = true, others = true, carry = "= {c}" }"#, &["a","b","c"]),
    (r#"{ kind = "lines", line = ["{a}", "{b} {c}"] }"#, &["a","b","c"]),
);
