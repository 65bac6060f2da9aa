//! Measures what rules of the game cost, over a million made-up records, beside `check` without rules and beside the bare
//! expression engine.

use anyhow::{Context as _, Result};
use cel::{Context, Program};
use clap::Parser;
use std::fmt::Write as _;
use std::fs;
use std::path::{Path, PathBuf};
use std::time::Instant;
use stitching_bench::{Bench, Numbers, take_turns};

/// Measures rules on a table that is written into a folder.
#[derive(Parser)]
struct Args {
    /// A folder for the data; it is made
    dir: PathBuf,
    /// The program to measure
    #[arg(long, default_value = "target/release/stitching")]
    stitching: PathBuf,
    /// Records
    #[arg(long, default_value_t = 1_000_000)]
    records: usize,
    /// Rounds
    #[arg(long, default_value_t = 5)]
    rounds: usize,
}

const TABLES: &str = r#"
[table.offers]
files = "offers.txt"
format = { kind = "delimited", delimiter = ";" }
key = "Offer"
[table.offers.fields]
Port = { ref = "ports" }
Amount = { type = "integer" }

[table.ports]
files = "ports.txt"
format = { kind = "delimited", delimiter = ";" }
key = "Port"
[table.ports.fields]
Depth = { type = "integer" }
Next = { ref = "ports" }
"#;

/// The condition that is also given to the bare engine.
const CONDITION: &str = "Amount * Price < 100000.0 && Kind != ''";

/// The rules of each project, by its name; all of them hold.
fn projects() -> Vec<(&'static str, String)> {
    let rule = |name: &str, table: &str, says: &str| {
        format!("[[rule]]\nname = \"{name}\"\ntable = \"{table}\"\n{says}\n")
    };
    let condition = rule("condition", "offers", &format!("assert = \"{CONDITION}\""));
    let mut ready_made = String::new();
    for (name, table, says) in [
        ("unique", "offers", "unique = [\"Offer\", \"Port\"]"),
        ("sequence", "offers", "sequence = \"Number\""),
        ("ascending", "offers", "ascending = \"Number\""),
        ("unlike", "offers", "unlike = \"Offer\"\nwhen = \"Number <= 10\""),
        ("apart", "offers", "apart = [\"Number\", \"Price\"]\ndistance = 0.5"),
        ("group", "offers", "by = \"Port\"\nassert = \"count(group) > 0\""),
        ("acyclic", "ports", "acyclic = \"Next\""),
        ("reachable", "ports", "reachable = \"Next\"\nfrom = \"Port == 'p0'\""),
        ("at-once", "ports", "by = \"Depth\"\nat_once = \"Depth\"\nwaits = \"Next\"\nmost = 1000000"),
    ] {
        ready_made += &rule(name, table, says);
    }
    let mut fifty = String::new();
    for number in 0..50 {
        let table = if number % 5 == 0 { "offers" } else { "ports" };
        let field = if number % 5 == 0 { "Amount" } else { "Depth" };
        fifty += &rule(&format!("r{number}"), table, &format!("assert = \"{field} < {}\"", 2000 + number));
    }
    vec![
        ("check without rules", String::new()),
        ("one rule, a condition", condition),
        ("one rule, following a reference", rule("follow", "offers", "assert = \"Port.Depth > 0\"")),
        (
            "one rule, a sum for each of 1,000 groups",
            rule("sum", "offers", "by = \"Port\"\nassert = \"sum(group, g, g.Amount) > 0\""),
        ),
        ("all ready-made rules", ready_made.clone()),
        ("fifty rules, ten of them over the million", fifty.clone()),
        ("all ready-made and fifty", ready_made + &fifty),
    ]
}

fn main() -> Result<()> {
    let args = Args::parse();
    let stitching = args.stitching.canonicalize().context("build with `cargo build --release` first")?;
    write_data(&args.dir, args.records)?;
    let mut benches = Vec::new();
    for (number, (name, rules)) in projects().into_iter().enumerate() {
        let folder = args.dir.join(format!("project{number}"));
        fs::create_dir_all(&folder)?;
        fs::write(folder.join("schema.toml"), format!("{TABLES}{rules}"))?;
        let project = "[project]\nname = \"rules\"\nschema = \"schema.toml\"\n[[layer]]\nname = \"mod\"\npath = \"../mod\"\n";
        fs::write(folder.join("stitching.toml"), project)?;
        let folder = folder.canonicalize()?.display().to_string();
        benches.push(Bench::new(
            name,
            &stitching,
            vec!["check".into(), "--no-cache".into(), "--project".into(), folder],
        ));
    }
    take_turns(&mut benches, &args.dir, args.rounds)?;
    let without = benches[0].middle();
    println!("| {} records | fastest, s | middle, s | to `check` without rules | memory, MB |", args.records);
    println!("| --- | ---: | ---: | ---: | ---: |");
    for bench in &benches {
        let (fastest, middle) = (bench.times[0].as_secs_f64(), bench.middle());
        let memory = bench.memory / 1_000_000;
        println!("| {} | {fastest:.2} | {middle:.2} | {:.2} | {memory} |", bench.name, middle / without);
    }
    let bare = bare_engine(args.records)?;
    println!(
        "| the bare expression engine, the condition only, values at hand | {bare:.2} | | {:.2} | |",
        bare / without
    );
    Ok(())
}

fn write_data(dir: &Path, records: usize) -> Result<()> {
    let folder = dir.join("mod");
    fs::create_dir_all(&folder)?;
    let mut numbers = Numbers(7);
    let mut ports = String::from("Port;Depth;Next\n");
    for number in 0..1000 {
        // A chain: each leads to the next, and the last to none.
        let next = if number < 999 { format!("p{}", number + 1) } else { String::new() };
        writeln!(ports, "p{number};{};{next}", 1 + numbers.below(40))?;
    }
    fs::write(folder.join("ports.txt"), ports)?;
    let mut offers = String::from("Offer;Port;Amount;Price;Kind;Number\n");
    for number in 0..records {
        let (port, amount, price) = (numbers.below(1000), 1 + numbers.below(900), 1 + numbers.below(90));
        let kind = ["salt", "rope", "fish"][numbers.below(3)];
        writeln!(offers, "o{number};p{port};{amount};{price}.5;{kind};{}", number + 1)?;
    }
    fs::write(folder.join("offers.txt"), offers)?;
    Ok(())
}

/// The seconds that the engine takes for the condition alone, on one thread, as its documentation uses it.
fn bare_engine(records: usize) -> Result<f64> {
    let program = Program::compile(CONDITION).map_err(|error| anyhow::anyhow!("{error}"))?;
    let root = Context::default();
    let mut numbers = Numbers(7);
    let start = Instant::now();
    let mut held = 0usize;
    for _ in 0..records {
        let mut context = root.new_inner_scope();
        context.add_variable_from_value("Amount", 1.0 + numbers.below(900) as f64);
        context.add_variable_from_value("Price", 1.5 + numbers.below(90) as f64);
        context.add_variable_from_value("Kind", "salt");
        held += usize::from(
            program.execute(&context).map_err(|error| anyhow::anyhow!("{error}"))? == true.into(),
        );
    }
    anyhow::ensure!(held == records, "the condition holds for all");
    Ok(start.elapsed().as_secs_f64())
}
