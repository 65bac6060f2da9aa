//! Makes a project of large made-up tables: half of them in the base, half in the mod.
//!
//! It stands for a big mod of text tables: keys, four references a row, numbers, choices, a note.
//! It leaves out what large real data also has: many small files, quoting, long texts.
//! The same arguments give the same bytes.

use anyhow::{Context, Result};
use clap::Parser;
use std::fmt::Write as _;
use std::fs;
use std::io::{BufWriter, Write};
use std::path::{Path, PathBuf};
use stitching_bench::Numbers;

/// Makes a project of large made-up tables.
#[derive(Parser)]
struct Args {
    /// The folder to make; it must not exist
    dir: PathBuf,
    /// Tables
    #[arg(long, default_value_t = 20)]
    tables: usize,
    /// Rows in each table
    #[arg(long, default_value_t = 50_000)]
    rows: usize,
    /// Columns of each table, at least 12
    #[arg(long, default_value_t = 30)]
    columns: usize,
    /// How many rows, spread over all tables, refer to the record `t00:hub`
    #[arg(long, default_value_t = 1_000)]
    uses: usize,
    /// How many references, spread over all tables, lead nowhere: most by a slip, every fourth by a name like no other
    #[arg(long, default_value_t = 0)]
    slips: usize,
}

/// Columns before the plain ones.
const HEAD: [&str; 9] = ["Id", "Ref1", "Ref2", "Ref3", "Ref4", "Depth", "Share", "Kind", "Serial"];
const KINDS: [&str; 4] = ["canal", "river", "basin", "tunnel"];

fn main() -> Result<()> {
    let args = Args::parse();
    anyhow::ensure!(!args.dir.exists(), "{} is there already", args.dir.display());
    let (mut project, mut schema) = (String::new(), String::new());
    project.push_str("[project]\nname = \"large\"\nschema = \"large.schema.toml\"\n");
    for layer in ["game", "mod"] {
        writeln!(project, "\n[[layer]]\nname = \"{layer}\"\npath = \"{layer}\"")?;
        fs::create_dir_all(args.dir.join(layer).join("tables"))?;
    }
    for table in 0..args.tables {
        let layer = if table % 2 == 0 { "game" } else { "mod" };
        write_table(&args, table, &args.dir.join(layer))?;
        describe(&args, table, &mut schema)?;
    }
    fs::write(args.dir.join("stitching.toml"), project)?;
    fs::write(args.dir.join("large.schema.toml"), schema)?;
    Ok(())
}

/// The table that a reference column points to.
fn target(args: &Args, table: usize, reference: usize) -> usize {
    (table + reference * 5 + 1) % args.tables
}

fn write_table(args: &Args, table: usize, layer: &Path) -> Result<()> {
    let path = layer.join(format!("tables/t{table:02}.txt"));
    let file = fs::File::create(&path).with_context(|| path.display().to_string())?;
    let mut out = BufWriter::with_capacity(1 << 20, file);
    let mut numbers = Numbers(table as u64);
    let names = (0..args.columns)
        .map(|column| HEAD.get(column).map_or(format!("Plain{column:02}"), |name| (*name).to_owned()));
    writeln!(out, "{}", names.collect::<Vec<_>>().join("\t"))?;
    // Every so many rows one refers to the hub, in its first reference.
    let every = args.rows * args.tables / args.uses.max(1);
    let between = (args.rows * args.tables).checked_div(args.slips);
    let mut row = String::new();
    for number in 0..args.rows {
        row.clear();
        if table == 0 && number == 0 {
            row.push_str("hub")
        } else {
            write!(row, "t{table:02}_k{number:05}")?
        }
        for reference in 0..4 {
            let hub = reference == 0 && number % every == 7;
            let points_to = if hub { 0 } else { target(args, table, reference) };
            let record = numbers.below(args.rows);
            match (points_to, record) {
                (0, _) if hub => row.push_str("\thub"),
                (0, 0) => row.push_str("\t-"),
                (points_to, record) => {
                    let name = format!("t{points_to:02}_k{record:05}");
                    let all = table * args.rows + number;
                    let slip = between.filter(|between| reference == 1 && all % between == between / 2);
                    match slip {
                        Some(between) => write!(row, "\t{}", misspelt(&name, all / between))?,
                        None => write!(row, "\t{name}")?,
                    }
                }
            }
        }
        let depth = numbers.below(400);
        write!(
            row,
            "\t{}.{}\t{}\t{}\t{number}",
            depth / 10,
            depth % 10,
            numbers.below(100),
            KINDS[numbers.below(4)]
        )?;
        for column in HEAD.len()..args.columns {
            match column % 3 {
                0 => write!(row, "\t{}", 1_000_000 + numbers.below(8_999_999))?,
                1 => write!(row, "\tword{:05}x", numbers.below(99_999))?,
                _ => write!(row, "\ta note {:04}", numbers.below(9_999))?,
            }
        }
        writeln!(out, "{row}")?;
    }
    Ok(out.flush()?)
}

/// A name as a tired hand writes it, in one of four ways.
fn misspelt(name: &str, number: usize) -> String {
    let at = 1 + number % (name.len() - 3);
    match number % 4 {
        0 => format!("{}{}", &name[..at], &name[at + 1..]),
        1 => format!("{}{}{}{}", &name[..at], &name[at + 1..=at + 1], &name[at..=at], &name[at + 2..]),
        2 => format!("{}q{}", &name[..at], &name[at..]),
        _ => name.bytes().rev().map(|byte| char::from(b'a' + byte.wrapping_mul(7) % 26)).collect(),
    }
}

fn describe(args: &Args, table: usize, schema: &mut String) -> Result<()> {
    writeln!(
        schema,
        "[table.t{table:02}]\nfiles = \"tables/t{table:02}.txt\"\nformat = {{ kind = \"delimited\" }}\nkey = \"Id\""
    )?;
    writeln!(schema, "[table.t{table:02}.fields]\nId = {{ pattern = \"[a-z0-9_]+\" }}")?;
    for reference in 0..4 {
        let own = target(args, table, reference);
        // The first column may also name the hub.
        let refs = if reference == 0 && own != 0 {
            format!("[\"t{own:02}\", \"t00\"]")
        } else {
            format!("\"t{own:02}\"")
        };
        writeln!(schema, "Ref{} = {{ ref = {refs}, none = \"-\" }}", reference + 1)?;
    }
    writeln!(
        schema,
        "Depth = {{ type = \"number\", range = [0, 40] }}\nShare = {{ type = \"integer\", range = [0, 100] }}"
    )?;
    writeln!(
        schema,
        "Kind = {{ choice = [\"canal\", \"river\", \"basin\", \"tunnel\"] }}\nSerial = {{ type = \"integer\", unique = true }}\n"
    )?;
    Ok(())
}
