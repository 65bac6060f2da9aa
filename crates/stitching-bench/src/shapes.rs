//! Measures `check`, and what is asked about one record, on each shape of file beside a general tool on the same bytes,
//! and an archive beside the same files unpacked.
//!
//! For each shape a project of a few thousand made-up files is written (once; the same arguments give the
//! same bytes): records with a key, three references, two numbers, a choice and a text. It leaves out what
//! real data also has: deep nesting, very long files, many notes.

use anyhow::{Context, Result, ensure};
use clap::Parser;
use std::fmt::Write as _;
use std::fs;
use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::process::Command;
use stitching_bench::{Bench, Numbers, take_turns};

/// Measures `stitching` on each shape of file.
#[derive(Parser)]
struct Args {
    /// The folder for the generated projects
    dir: PathBuf,
    /// Megabytes of each shape
    #[arg(long, default_value_t = 100)]
    megabytes: usize,
    /// Files of each shape
    #[arg(long, default_value_t = 3_000)]
    files: usize,
    /// Megabytes of the archive of which one entry is edited
    #[arg(long, default_value_t = 1_000)]
    archive: usize,
    /// The program to measure
    #[arg(long, default_value = "target/release/stitching")]
    stitching: PathBuf,
    /// Rounds
    #[arg(long, default_value_t = 5)]
    rounds: usize,
    /// Only these shapes
    #[arg(long, value_delimiter = ',')]
    only: Vec<String>,
}

/// A shape: its name, the ending of its files, how a schema describes it, and how a record is written.
struct Shape {
    name: &'static str,
    ending: &'static str,
    schema: &'static str,
    record: fn(&mut String, &Record) -> std::fmt::Result,
    around: (&'static str, &'static str),
    /// The general tool it is measured beside.
    tool: &'static str,
}

struct Record {
    first: bool,
    key: String,
    refs: [String; 3],
    depth: usize,
    share: usize,
    kind: &'static str,
    text: String,
}

const KINDS: [&str; 4] = ["canal", "river", "basin", "tunnel"];
const FIELDS: &str = "depth = { type = \"integer\", range = [0, 400] }\nshare = { type = \"integer\" }\nkind = { choice = [\"canal\", \"river\", \"basin\", \"tunnel\"] }\n";

const SHAPES: [Shape; 5] = [
    Shape {
        name: "xml",
        ending: "xml",
        schema: "format = { kind = \"xml\", records = \"/game/reach\" }\nkey = \"@id\"\n[table.t.fields]\n\"@above\" = { ref = \"t\" }\n\"@below\" = { ref = \"t\" }\nbeside = { ref = \"t\" }\n",
        record: |out, r| {
            writeln!(out, "  <reach id=\"{}\" above=\"{}\" below=\"{}\">", r.key, r.refs[0], r.refs[1])?;
            writeln!(
                out,
                "    <beside>{}</beside>\n    <depth>{}</depth>\n    <share>{}</share>",
                r.refs[2], r.depth, r.share
            )?;
            writeln!(out, "    <kind>{}</kind>\n    <about>{}</about>\n  </reach>", r.kind, r.text)
        },
        around: ("<?xml version=\"1.0\"?>\n<game>\n", "</game>\n"),
        tool: "xmllint --noout",
    },
    Shape {
        name: "json",
        ending: "json",
        schema: "format = { kind = \"json\", records = \"$[*]\" }\nkey = \"id\"\n[table.t.fields]\n\"near[*]\" = { ref = \"t\" }\nbeside = { ref = \"t\" }\n",
        record: |out, r| {
            let comma = if r.first { "" } else { ",\n" };
            write!(
                out,
                "{comma}  {{\n    \"id\": \"{}\",\n    \"near\": [\"{}\", \"{}\"],\n",
                r.key, r.refs[0], r.refs[1]
            )?;
            write!(
                out,
                "    \"beside\": \"{}\",\n    \"depth\": {},\n    \"share\": {},\n",
                r.refs[2], r.depth, r.share
            )?;
            write!(out, "    \"kind\": \"{}\",\n    \"about\": \"{}\"\n  }}", r.kind, r.text)
        },
        around: ("[\n", "\n]\n"),
        tool: "jq empty",
    },
    Shape {
        name: "ini",
        ending: "ini",
        schema: "format = { kind = \"ini\" }\nkey = \"{section}\"\n[table.t.fields]\nabove = { ref = \"t\" }\nbelow = { ref = \"t\" }\nbeside = { ref = \"t\" }\n",
        record: |out, r| {
            writeln!(
                out,
                "[{}]\nabove = {}\nbelow = {}\nbeside = {}",
                r.key, r.refs[0], r.refs[1], r.refs[2]
            )?;
            writeln!(out, "depth = {}\nshare = {}\nkind = {}\nabout = {}\n", r.depth, r.share, r.kind, r.text)
        },
        around: ("; reaches\n", ""),
        tool: "rg -c t_k0001234",
    },
    Shape {
        name: "blocks",
        ending: "hold",
        schema: "format = { kind = \"blocks\", records = \"reaches/*\" }\nkey = \"{name}\"\n[table.t.fields]\nnear = { ref = \"t\" }\nbeside = { ref = \"t\" }\n",
        record: |out, r| {
            writeln!(
                out,
                "    {} = {{\n        near = {{ {} {} }}\n        beside = {}",
                r.key, r.refs[0], r.refs[1], r.refs[2]
            )?;
            writeln!(
                out,
                "        depth = {}\n        share = {}\n        kind = {}\n        about = \"{}\"\n    }}",
                r.depth, r.share, r.kind, r.text
            )
        },
        around: ("# reaches\nreaches = {\n", "}\n"),
        tool: "rg -c t_k0001234",
    },
    Shape {
        name: "lines",
        ending: "txt",
        schema: "format = { kind = \"lines\", line = '{id}: {above} to {below} by {beside}, {depth} deep, {share} of {kind}, \"{about}\"', comment = \"#\" }\nkey = \"id\"\n[table.t.fields]\nabove = { ref = \"t\" }\nbelow = { ref = \"t\" }\nbeside = { ref = \"t\" }\n",
        record: |out, r| {
            write!(out, "{}: {} to {} by {}, ", r.key, r.refs[0], r.refs[1], r.refs[2])?;
            writeln!(out, "{} deep, {} of {}, \"{}\"", r.depth, r.share, r.kind, r.text)
        },
        around: ("# reaches\n", ""),
        tool: "rg -c t_k0001234",
    },
];

fn main() -> Result<()> {
    let args = Args::parse();
    let stitching = args.stitching.canonicalize().context("build with `cargo build --release` first")?;
    let wanted = |name: &str| args.only.is_empty() || args.only.iter().any(|own| own == name);
    println!("| shape | MB | command | fastest, s | middle, s | to the other | memory to the input |");
    println!("| --- | ---: | --- | ---: | ---: | ---: | ---: |");
    for shape in SHAPES.iter().filter(|shape| wanted(shape.name)) {
        let dir = args.dir.join(shape.name);
        if !dir.exists() {
            generate(shape, &dir, args.megabytes << 20, args.files)?;
        }
        let (files, bytes) = files(&dir)?;
        let mut words = shape.tool.split(' ').map(str::to_owned);
        let tool = words.next().unwrap_or_default();
        let own = |name: &str, command: &str| {
            Bench::new(name, &stitching, command.split(' ').map(str::to_owned).collect())
        };
        let first = |bench| Bench { forget: Some(".stitching/cache"), ..bench };
        let mut benches = [
            Bench::new(shape.tool, tool, words.chain(files).collect()),
            own("check", "check --no-cache"),
            first(own("find of a key, first run", "find t_k0001234")),
            own("find of a key, again", "find t_k0001234"),
            first(own("show of a record, first run", "show t:t_k0001234")),
            own("show of a record, again", "show t:t_k0001234"),
            own("uses of a record, again", "uses t:t_k0001234"),
        ];
        take_turns(&mut benches, &dir, args.rounds)?;
        print(shape.name, &benches, bytes);
    }
    if wanted("archive") {
        archive(&args, &stitching)?;
    }
    if wanted("edit") {
        edit(&args, &stitching)?;
    }
    Ok(())
}

fn print(shape: &str, benches: &[Bench], bytes: u64) {
    for bench in benches {
        println!(
            "| {shape} | {:.0} | {} | {:.3} | {:.3} | {:.2} | {:.2} |",
            bytes as f64 / 1e6,
            bench.name,
            bench.times[0].as_secs_f64(),
            bench.middle(),
            bench.middle() / benches[0].middle(),
            bench.memory as f64 / bytes as f64,
        );
    }
}

/// Writes a project of one shape.
fn generate(shape: &Shape, dir: &Path, bytes: usize, files: usize) -> Result<()> {
    let data = dir.join("mod/data");
    fs::create_dir_all(&data)?;
    let mut numbers = Numbers(7);
    // How many records there will be follows from the size of the first.
    let mut sample = String::new();
    (shape.record)(&mut sample, &record(&mut numbers, 0, 1_000_000, true))?;
    let each = (bytes / sample.len() / files).max(1);
    let all = each * files;
    for file in 0..files {
        let mut text = shape.around.0.to_owned();
        for number in 0..each {
            (shape.record)(&mut text, &record(&mut numbers, file * each + number, all, number == 0))?;
        }
        text.push_str(shape.around.1);
        fs::write(data.join(format!("f{file:05}.{}", shape.ending)), text)?;
    }
    describe(dir, shape, &format!("data/*.{}", shape.ending))
}

fn record(numbers: &mut Numbers, number: usize, all: usize, first: bool) -> Record {
    let mut other = || format!("t_k{:07}", numbers.below(all));
    let refs = [other(), other(), other()];
    let text = format!(
        "a stretch of water, {:06} paces long and {:04} wide",
        numbers.below(999_999),
        numbers.below(9_999)
    );
    Record {
        first,
        key: format!("t_k{number:07}"),
        refs,
        depth: numbers.below(400),
        share: numbers.below(100),
        kind: KINDS[numbers.below(4)],
        text,
    }
}

fn describe(dir: &Path, shape: &Shape, files: &str) -> Result<()> {
    let project = "[project]\nname = \"shape\"\nschema = \"shape.schema.toml\"\n\n[[layer]]\nname = \"mod\"\npath = \"mod\"\n";
    fs::write(dir.join("stitching.toml"), project)?;
    fs::write(
        dir.join("shape.schema.toml"),
        format!("[table.t]\nfiles = \"{files}\"\n{}{FIELDS}", shape.schema),
    )?;
    Ok(())
}

fn files(dir: &Path) -> Result<(Vec<String>, u64)> {
    let (mut files, mut bytes) = (Vec::new(), 0);
    for entry in fs::read_dir(dir.join("mod/data"))? {
        let entry = entry?;
        bytes += entry.metadata()?.len();
        files.push(format!("mod/data/{}", entry.file_name().to_string_lossy()));
    }
    files.sort();
    Ok((files, bytes))
}

/// The JSON files packed into one archive: beside the time of unpacking it and checking the files.
fn archive(args: &Args, stitching: &Path) -> Result<()> {
    let shape = &SHAPES[1];
    let plain = args.dir.join(shape.name);
    if !plain.exists() {
        generate(shape, &plain, args.megabytes << 20, args.files)?;
    }
    let dir = args.dir.join("archive");
    if !dir.exists() {
        fs::create_dir_all(dir.join("mod"))?;
        let file = fs::File::create(dir.join("mod/data.zip"))?;
        let mut writer = zip::ZipWriter::new(std::io::BufWriter::new(file));
        for name in files(&plain)?.0 {
            let inner = name.trim_start_matches("mod/");
            writer.start_file(inner, zip::write::SimpleFileOptions::default())?;
            writer.write_all(&fs::read(plain.join(&name))?)?;
        }
        writer.finish()?;
        describe(&dir, shape, "data.zip/data/*.json")?;
    }
    let (_, bytes) = files(&plain)?;
    let target = args.dir.join("unpacked");
    let unzip = ["-qq", "-o", "mod/data.zip", "-d"].map(str::to_owned);
    let unzip = unzip.into_iter().chain([std::path::absolute(&target)?.display().to_string()]);
    let mut packed = [
        Bench::new("unzip", "unzip", unzip.collect()),
        Bench::new("check, packed", stitching, vec!["check".to_owned(), "--no-cache".to_owned()]),
    ];
    let mut unpacked =
        [Bench::new("check, unpacked", stitching, vec!["check".to_owned(), "--no-cache".to_owned()])];
    for _ in 0..args.rounds {
        take_turns(&mut packed, &dir, 1)?;
        take_turns(&mut unpacked, &plain, 1)?;
    }
    let both = packed[0].middle() + unpacked[0].middle();
    let [unzip, packed] = packed;
    let [unpacked] = unpacked;
    print("archive", &[unpacked, unzip], bytes);
    println!(
        "| archive | {:.0} | {} | {:.3} | {:.3} | {:.2} of unpacking and checking | {:.2} |",
        bytes as f64 / 1e6,
        packed.name,
        packed.times[0].as_secs_f64(),
        packed.middle(),
        packed.middle() / both,
        packed.memory as f64 / bytes as f64,
    );
    Ok(())
}

/// One entry of a large archive edited: beside copying the archive and bringing the copy to the disk.
fn edit(args: &Args, stitching: &Path) -> Result<()> {
    let dir = args.dir.join("edit");
    if !dir.exists() {
        fs::create_dir_all(dir.join("mod"))?;
        let mut writer =
            zip::ZipWriter::new(std::io::BufWriter::new(fs::File::create(dir.join("mod/data.zip"))?));
        let stored =
            zip::write::SimpleFileOptions::default().compression_method(zip::CompressionMethod::Stored);
        let mut numbers = Numbers(3);
        for part in 0..args.archive / 10 {
            writer.start_file(format!("pictures/p{part:04}.bin"), stored)?;
            let bytes: Vec<u8> =
                (0..10 << 17).flat_map(|_| (numbers.below(usize::MAX) as u64).to_le_bytes()).collect();
            writer.write_all(&bytes)?;
            if part == args.archive / 20 {
                writer.start_file("data/a.json", zip::write::SimpleFileOptions::default())?;
                writer.write_all(b"[{\"id\": \"one\"}, {\"id\": \"two\", \"beside\": \"one\"}]")?;
            }
        }
        writer.finish()?;
        describe(&dir, &SHAPES[1], "data.zip/data/*.json")?;
    }
    let bytes = fs::metadata(dir.join("mod/data.zip"))?.len();
    let copy = "cp mod/data.zip copy.zip && sync copy.zip".to_owned();
    let words = |text: &str| text.split(' ').map(str::to_owned).collect::<Vec<_>>();
    let mut benches = [
        Bench::new("cp and sync", "sh", vec!["-c".to_owned(), copy]),
        Bench { after: Some("undo"), ..Bench::new("rename t:one", stitching, words("rename t:one uno")) },
    ];
    take_turns(&mut benches, &dir, args.rounds)?;
    ensure!(Command::new("rm").arg("-f").arg(dir.join("copy.zip")).status()?.success(), "rm failed");
    print("edit", &benches, bytes);
    Ok(())
}
