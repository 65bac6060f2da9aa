//! What the benchmarks share: running commands in turn, their times and memory, and numbers that are the
//! same everywhere.

use anyhow::{Context, Result, ensure};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

/// A command to be measured.
#[derive(Debug)]
pub struct Bench {
    /// What it is called in the report.
    pub name: String,
    /// The program.
    pub program: PathBuf,
    /// Its arguments.
    pub args: Vec<String>,
    /// How many threads it may use, if that is limited.
    pub threads: Option<&'static str>,
    /// An argument with which the program runs after each measured run, unmeasured, to put things back.
    pub after: Option<&'static str>,
    /// An argument with which the program runs before each measured run, unmeasured, so that it is not the first; some seconds
    /// later, since nothing is kept of files that were just written.
    pub before: Option<&'static str>,
    /// A folder that is deleted before each run, unmeasured: what an earlier run found out.
    pub forget: Option<&'static str>,
    /// The times of its runs, sorted by [`take_turns`].
    pub times: Vec<Duration>,
    /// The most memory it had, in bytes.
    pub memory: i64,
}

impl Bench {
    /// A command with nothing measured yet.
    pub fn new(name: &str, program: impl Into<PathBuf>, args: Vec<String>) -> Bench {
        Bench {
            name: name.to_owned(),
            program: program.into(),
            args,
            threads: None,
            after: None,
            before: None,
            forget: None,
            times: Vec::new(),
            memory: 0,
        }
    }

    /// The middle one of its times, in seconds.
    pub fn middle(&self) -> f64 {
        self.times[self.times.len() / 2].as_secs_f64()
    }
}

/// The plain text search of this machine: its program, and the arguments with which it counts lines.
pub fn text_search() -> (&'static str, &'static [&'static str]) {
    let is_there = |program: &str| Command::new(program).arg("--version").output().is_ok();
    if is_there("rg") { ("rg", &["-c"]) } else { ("grep", &["-c", "-F"]) }
}

/// Runs the commands in turns in the folder `dir`, once unmeasured and then `rounds` times.
pub fn take_turns(benches: &mut [Bench], dir: &Path, rounds: usize) -> Result<()> {
    for round in 0..=rounds {
        for bench in &mut *benches {
            if let Some(forget) = bench.forget.map(|forget| dir.join(forget)).filter(|forget| forget.exists())
            {
                std::fs::remove_dir_all(forget)?;
            }
            if let Some(before) = bench.before {
                std::thread::sleep(Duration::from_secs(3));
                let mut command = Command::new(&bench.program);
                command.arg(before).current_dir(dir).stdout(Stdio::null()).stderr(Stdio::null());
                command.status()?;
            }
            let (time, memory) = run(bench, dir)?;
            if round > 0 {
                bench.times.push(time);
                bench.memory = bench.memory.max(memory);
            }
            if let Some(after) = bench.after {
                let mut command = Command::new(&bench.program);
                command.arg(after).current_dir(dir).stdout(Stdio::null()).stderr(Stdio::null());
                ensure!(command.status()?.success(), "{after} failed");
            }
        }
    }
    benches.iter_mut().for_each(|bench| bench.times.sort());
    Ok(())
}

/// A small generator of numbers (splitmix64), so that the data is the same everywhere.
#[derive(Debug)]
pub struct Numbers(pub u64);

impl Numbers {
    /// The next number below `limit`.
    pub fn below(&mut self, limit: usize) -> usize {
        self.0 = self.0.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        ((z ^ (z >> 31)) % limit as u64) as usize
    }
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
