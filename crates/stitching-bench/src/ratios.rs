//! Measures `stitching` beside a plain copy and a plain text search on the same bytes.
//!
//! The commands take turns, so that a busy machine slows them alike; of each the fastest and the
//! middle run are told, and the middle one as a ratio to the search. Memory is the largest that
//! was resident. Files are warm: everything is read once before the first run.

use anyhow::{Context, Result};
use clap::Parser;
use std::path::{Path, PathBuf};
use stitching_bench::{Bench, take_turns, text_search};

/// Measures `stitching` beside `cat` and a text search on a project made by `generate`.
#[derive(Parser)]
struct Args {
    /// A folder made by `generate`
    dir: PathBuf,
    /// The program to measure
    #[arg(long, default_value = "target/release/stitching")]
    stitching: PathBuf,
    /// A folder made by `generate --slips NUMBER`, for the check of many problems
    #[arg(long)]
    slips: Option<PathBuf>,
    /// Rounds
    #[arg(long, default_value_t = 7)]
    rounds: usize,
}

fn main() -> Result<()> {
    let args = Args::parse();
    let stitching = args.stitching.canonicalize().context("build with `cargo build --release` first")?;
    let (files, bytes) = files(&args.dir)?;
    let own = |name, command: &str, threads, after| Bench {
        threads,
        after,
        ..Bench::new(name, &stitching, command.split(' ').map(str::to_owned).collect())
    };
    let other = |name: &str, program: &str, mut args: Vec<String>| {
        args.extend(files.iter().cloned());
        Bench::new(name, program, args)
    };
    let (program, counting) = text_search();
    let mut counting: Vec<String> = counting.iter().map(|own| (*own).to_owned()).collect();
    counting.push("t07_k01234".to_owned());
    let search = other(&format!("text search ({program} -c)"), program, counting);
    let first = |bench| Bench { forget: Some(".stitching/cache"), ..bench };
    let mut benches = vec![
        other("read all bytes (cat)", "cat", vec![]),
        search,
        own("check", "check --no-cache", None, None),
        own("check, 1 thread", "check --no-cache", Some("1"), None),
        Bench { before: Some("check"), ..own("check, again", "check", None, None) },
        first(own("show of a record, first run", "show t03:t03_k00100", None, None)),
        own("show of a record, again", "show t03:t03_k00100", None, None),
        first(own("uses of a record, first run", "uses t03:t03_k00100", None, None)),
        own("uses of a record, again", "uses t03:t03_k00100", None, None),
        first(own("find of a key, first run", "find t03_k00100", None, None)),
        own("find of a key, again", "find t03_k00100", None, None),
        own("learn", "learn", None, None),
        own("uses in all files (t00:hub)", "uses t00:hub", None, None),
        own("rename t00:hub", "rename t00:hub nave", None, Some("undo")),
        own("rename, preview only", "rename t00:hub nave --preview", None, None),
        own("set of 100,000 fields", "set t01 --all Depth:=Depth/2+1 Share=50", None, Some("undo")),
        own("set, preview only", "set t01 --all Depth:=Depth/2+1 Share=50 --preview", None, None),
        own("set of one field", "set t03:t03_k00100.Depth=3", None, Some("undo")),
        own("add of a record", "add t03 zz --like t03_k00100", None, Some("undo")),
        own("copy of a record", "copy t03:t03_k00100 zz", None, Some("undo")),
        own("remove of a record, preview only", "remove t03:t03_k00100 --detach --preview", None, None),
    ];
    if let Some(slips) = &args.slips {
        let command = format!("check --no-cache --format json --project {}", slips.canonicalize()?.display());
        benches.insert(5, own("check, thousands of references that lead nowhere", &command, None, None));
    }
    take_turns(&mut benches, &args.dir, args.rounds)?;
    print(&benches, bytes);
    Ok(())
}

fn files(dir: &Path) -> Result<(Vec<String>, u64)> {
    let (mut files, mut bytes) = (Vec::new(), 0);
    for layer in ["game", "mod"] {
        for entry in std::fs::read_dir(dir.join(layer).join("tables"))? {
            let entry = entry?;
            bytes += entry.metadata()?.len();
            files.push(format!("{layer}/tables/{}", entry.file_name().to_string_lossy()));
        }
    }
    files.sort();
    Ok((files, bytes))
}

fn print(benches: &[Bench], bytes: u64) {
    let (search, check) = (benches[1].middle(), benches[2].middle());
    println!("{:.0} MB of tables\n", bytes as f64 / 1e6);
    println!("| command | fastest, s | middle, s | to the search | to `check` | memory to the input |");
    println!("| --- | ---: | ---: | ---: | ---: | ---: |");
    for bench in benches.iter() {
        println!(
            "| {} | {:.3} | {:.3} | {:.1} | {:.2} | {:.2} |",
            bench.name,
            bench.times[0].as_secs_f64(),
            bench.middle(),
            bench.middle() / search,
            bench.middle() / check,
            bench.memory as f64 / bytes as f64,
        );
    }
}
