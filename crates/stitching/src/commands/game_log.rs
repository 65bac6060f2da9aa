//! `stitching check --log`

use crate::args::Global;
use crate::next_step::help_text;
use crate::render::human::{self, clean};
use crate::render::json;
use crate::ui::{BOLD, DIM, RED, Ui, YELLOW, count, grouped, styled, wants_json};
use serde::Serialize;
use std::fs::File;
use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::ExitCode;
use stitching_core::checks::Report;
use stitching_core::views::{LogFinding, LogMention, LogReading, log_findings, read_log};
use stitching_core::{Error, Project, Severity};

/// The result of `check --log`.
#[derive(Debug, Serialize)]
struct LogShape<'l> {
    lines: u64,
    mentions: Vec<MentionShape<'l>>,
    more: u64,
}

#[derive(Debug, Serialize)]
struct MentionShape<'l> {
    log_line: u64,
    count: u64,
    text: &'l str,
    record: Option<&'l str>,
    label: Option<&'l str>,
    place: Option<json::PlaceShape<'l>>,
    missing: Option<&'l str>,
    near: &'l [String],
    problems: Vec<json::ProblemShape<'l>>,
}

/// Reads a log and tells what its lines are about.
pub fn run(
    project: &Project,
    file: &Path,
    report: &Report,
    global: &Global,
    ui: &Ui,
) -> Result<ExitCode, Error> {
    let as_json = wants_json(global)?;
    if project.schema.logs.is_empty() {
        return Err(Error::Usage {
            message: "the schema does not say what the lines of the log look like".into(),
            help: "write [[log]] with pattern = '...' and the groups (?<key>...), (?<name>...), (?<file>...), (?<line>...)".into(),
        });
    }
    let io = |source| Error::io("read", file, source);
    let mut log: Box<dyn BufRead> = match file == Path::new("-") {
        true => Box::new(BufReader::new(std::io::stdin())),
        false => Box::new(BufReader::with_capacity(1 << 20, File::open(file).map_err(io)?)),
    };
    let reading = ui.progress("reading the log", || read_log(&project.schema, &mut *log)).map_err(io)?;
    let findings = log_findings(project.view(), &reading, &report.problems)?;
    let pairs: Vec<(&LogMention, &LogFinding<'_>)> = reading.mentions.iter().zip(&findings).collect();
    if as_json {
        let mentions = pairs.iter().map(|(mention, finding)| MentionShape {
            log_line: mention.line,
            count: mention.count,
            text: &mention.text,
            record: finding.record.as_ref().map(|own| own.address.as_str()),
            label: finding.record.as_ref().and_then(|own| own.label.as_deref()),
            place: finding.place.as_ref().map(Into::into),
            missing: finding.missing.as_deref(),
            near: &finding.near,
            problems: finding.problems.iter().map(|own| (*own).into()).collect(),
        });
        ui.json(&LogShape { lines: reading.lines, mentions: mentions.collect(), more: reading.more });
    } else {
        tell(&reading, &pairs, &human::Paths::of(project), ui);
    }
    Ok(ExitCode::SUCCESS)
}

fn tell(reading: &LogReading, pairs: &[(&LogMention, &LogFinding<'_>)], paths: &human::Paths, ui: &Ui) {
    let mut out = String::new();
    for (mention, finding) in pairs {
        let more =
            if mention.count > 1 { format!(" (and {} more)", mention.count - 1) } else { String::new() };
        out.push_str(&format!("line {}{more}: {}\n", mention.line, styled(BOLD, clean(&mention.text))));
        let place = finding.place.as_ref().map(|place| paths.place(place));
        let record = finding.record.as_ref().map(|own| match &own.label {
            Some(label) => format!("{} \"{}\"", own.address, clean(label)),
            None => own.address.clone(),
        });
        let about: Vec<String> = record.into_iter().chain(place).collect();
        if !about.is_empty() {
            out.push_str(&format!("    {}\n", about.join("  ")));
        }
        if let Some(missing) = &finding.missing {
            let near = match &finding.near[..] {
                [] => String::new(),
                near => format!("; the nearest: {}", near.join(", ")),
            };
            out.push_str(&format!("    {missing}{near}\n"));
        }
        for problem in &finding.problems {
            let style = if problem.severity == Severity::Error { RED } else { YELLOW };
            let head = styled(style, format!("{}[{}]", problem.severity.word(), problem.name()));
            let at = paths.place(&problem.place);
            let help =
                problem.help.as_ref().map(|help| format!(" ({})", help_text(help))).unwrap_or_default();
            out.push_str(&format!("    {head} {at}: {}{help}\n", clean(&problem.message)));
        }
        if finding.problems.is_empty() && finding.missing.is_none() {
            out.push_str(&format!("    {}\n", styled(DIM, "nothing wrong is known here")));
        }
    }
    if reading.more > 0 {
        out.push_str(&format!("{} more lines speak of other things\n", reading.more));
    }
    let lines = usize::try_from(reading.lines).unwrap_or(usize::MAX);
    let different = count(pairs.len(), "different thing");
    let said: u64 = reading.mentions.iter().map(|own| own.count).sum::<u64>() + reading.more;
    let said = grouped(usize::try_from(said).unwrap_or(usize::MAX));
    out.push_str(&format!(
        "{said} of {} of the log speak of {different} in the data\n",
        count(lines, "line")
    ));
    ui.out(&out);
}
