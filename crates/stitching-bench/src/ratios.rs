//! Measures `stitching` beside a plain copy and a plain text search on the same bytes.
//!
//! The commands take turns, so that a busy machine slows them alike; of each the fastest and the
//! middle run are told, and the middle one as a ratio to the search. Memory is the largest that
//! was resident. Files are warm: everything is read once before the first run.

use anyhow::{Context, Result, ensure};
use clap::Parser;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

/// Measures `stitching` beside `cat` and `rg` on a project made by `generate`.
#[derive(Parser)]
struct Args {
    /// A folder made by `generate`
    dir: PathBuf,
    /// The program to measure
    #[arg(long, default_value = "target/release/stitching")]
    stitching: PathBuf,
    /// Rounds
    #[arg(long, default_value_t = 7)]
    rounds: usize,
}

struct Bench {
    name: &'static str,
    program: PathBuf,
    args: Vec<String>,
    threads: Option<&'static str>,
    /// Runs after each measured run, unmeasured, to put things back.
    after: Option<&'static str>,
    times: Vec<Duration>,
    memory: i64,
}

fn main() -> Result<()> {
    let args = Args::parse();
    let stitching = args.stitching.canonicalize().context("build with `cargo build --release` first")?;
    let (files, bytes) = files(&args.dir)?;
    let own = |name, command: &str, threads, after| Bench {
        name,
        program: stitching.clone(),
        args: command.split(' ').map(str::to_owned).collect(),
        threads,
        after,
        times: Vec::new(),
        memory: 0,
    };
    let other = |name, program: &str, mut args: Vec<String>| {
        args.extend(files.iter().cloned());
        Bench {
            name,
            program: program.into(),
            args,
            threads: None,
            after: None,
            times: Vec::new(),
            memory: 0,
        }
    };
    let mut benches = vec![
        other("read all bytes (cat)", "cat", vec![]),
        other("text search (rg -c)", "rg", vec!["-c".into(), "t07_k01234".into()]),
        own("check", "check", None, None),
        own("check, 1 thread", "check", Some("1"), None),
        own("uses t00:hub", "uses t00:hub", None, None),
        own("rename t00:hub", "rename t00:hub nave", None, Some("undo")),
        own("rename, preview only", "rename t00:hub nave --preview", None, None),
    ];
    for round in 0..=args.rounds {
        for bench in &mut benches {
            let (time, memory) = run(bench, &args.dir)?;
            if round > 0 {
                bench.times.push(time);
                bench.memory = bench.memory.max(memory);
            }
            if let Some(after) = bench.after {
                let status = Command::new(&bench.program)
                    .arg(after)
                    .current_dir(&args.dir)
                    .stdout(Stdio::null())
                    .stderr(Stdio::null())
                    .status()?;
                ensure!(status.success(), "{after} failed");
            }
        }
    }
    print(&mut benches, bytes);
    Ok(())
}

/// Runs one command; gives its time and the most memory it had, in bytes.
fn run(bench: &Bench, dir: &Path) -> Result<(Duration, i64)> {
    let mut command = Command::new(&bench.program);
    command
        .args(&bench.args)
        .current_dir(dir)
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::null());
    if let Some(threads) = bench.threads {
        command.env("RAYON_NUM_THREADS", threads);
    }
    let start = Instant::now();
    let child = command.spawn().with_context(|| bench.program.display().to_string())?;
    // SAFETY: both are plain data that the call fills in; the child is ours and not yet waited for.
    let (status, usage) = unsafe {
        let (mut status, mut usage) = (0, std::mem::zeroed::<libc::rusage>());
        libc::wait4(child.id() as libc::pid_t, &mut status, 0, &mut usage);
        (status, usage)
    };
    let time = start.elapsed();
    ensure!(libc::WIFEXITED(status) && libc::WEXITSTATUS(status) < 2, "`{}` failed", bench.name);
    Ok((time, usage.ru_maxrss * 1024))
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

fn print(benches: &mut [Bench], bytes: u64) {
    for bench in benches.iter_mut() {
        bench.times.sort();
    }
    let middle = |bench: &Bench| bench.times[bench.times.len() / 2].as_secs_f64();
    let (search, check) = (middle(&benches[1]), middle(&benches[2]));
    println!("{:.0} MB of tables\n", bytes as f64 / 1e6);
    println!("| command | fastest, s | middle, s | to the search | to `check` | memory to the input |");
    println!("| --- | ---: | ---: | ---: | ---: | ---: |");
    for bench in benches.iter() {
        println!(
            "| {} | {:.3} | {:.3} | {:.1} | {:.2} | {:.2} |",
            bench.name,
            bench.times[0].as_secs_f64(),
            middle(bench),
            middle(bench) / search,
            middle(bench) / check,
            bench.memory as f64 / bytes as f64,
        );
    }
}
