//! What a rule of the schema says, in words.

use stitching_core::schema::{Example, MessagePart, Requirement, Rule};

/// What a check finds, as one paragraph: the first section of its `docs`.
pub fn what_it_finds(docs: &str) -> String {
    let section = docs.split("\n\n").next().unwrap_or_default();
    section.lines().skip(1).map(str::trim).collect::<Vec<_>>().join(" ")
}

/// What a rule is about, in one line.
pub fn headline(rule: &Rule) -> String {
    match &rule.about {
        Some(about) => about.lines().next().unwrap_or_default().to_owned(),
        None => must(rule),
    }
}

/// All that the schema says of a rule.
pub fn of_rule(rule: &Rule) -> String {
    let mut out = String::new();
    let mut paragraph = |head: &str, text: &str| {
        let lines = text.lines().map(|line| format!("    {line}\n")).collect::<String>();
        out.push_str(&format!("{head}\n{lines}\n"));
    };
    let mut what = must(rule);
    if let Some(when) = &rule.when {
        what.push_str(&format!("\nIt is for records where {when}"));
    }
    paragraph("What must hold", &what);
    // Its first line is the heading.
    if let Some((_, about)) = rule.about.as_deref().and_then(|about| about.split_once('\n')) {
        paragraph("Why it matters", about);
    }
    if let Some(message) = &rule.message {
        let part = |part: &MessagePart| match part {
            MessagePart::Text(text) => text.clone(),
            MessagePart::Expression(source) => format!("{{{source}}}"),
        };
        paragraph("What is said", &message.parts.iter().map(part).collect::<String>());
    }
    let examples = |examples: &[Example]| {
        let of_record = |record: &Vec<(String, Vec<String>)>| {
            let fields = record.iter().map(|(name, values)| format!("{name} = {}", values.join(", ")));
            fields.collect::<Vec<_>>().join("; ")
        };
        let of_example =
            |example: &Example| example.records.iter().map(of_record).collect::<Vec<_>>().join("\n    and ");
        examples.iter().map(of_example).collect::<Vec<_>>().join("\n")
    };
    if !rule.bad.is_empty() {
        paragraph("Example, wrong", &examples(&rule.bad));
    }
    if !rule.good.is_empty() {
        paragraph("Example, right", &examples(&rule.good));
    }
    match (&rule.help, &rule.fix) {
        (None, None) => {}
        (help, fix) => {
            let fix = fix.as_ref().map(|fix| format!("The value that would be right: {fix}"));
            let text: Vec<String> = help.iter().cloned().chain(fix).collect();
            paragraph("How to put it right", &text.join("\n"));
        }
    }
    paragraph("When to ignore it", "Say with `when` which records it is for.");
    paragraph("Where it is written", &format!("{}, line {}", rule.place.path, rule.place.line));
    out.truncate(out.trim_end().len());
    out.push('\n');
    out
}

/// What must hold, in words.
fn must(rule: &Rule) -> String {
    let what = match &rule.requirement {
        Requirement::Assert(source) => source.clone(),
        Requirement::Unique(fields) => format!("no two have the same {}", fields.join(" and ")),
        Requirement::Sequence { field, first } => {
            format!("{field} is {first}, {} and so on, without a gap", first.saturating_add(1))
        }
        Requirement::Ascending(field) => format!("{field} does not fall from one record to the next"),
        Requirement::Acyclic(field) => format!("{field} leads in no circle"),
        Requirement::Reachable { field, from } => {
            format!("each is reached through {field} from those where {from}")
        }
        Requirement::Mutual(there, back) if there == back => {
            format!("what one names in {there} names that one too")
        }
        Requirement::Mutual(there, back) => format!("what one names in {there} names that one in {back}"),
        Requirement::Apart { fields, distance } if *distance == 0.0 => {
            format!("no two are at the same place ({})", fields.join(", "))
        }
        Requirement::Apart { fields, distance } => {
            format!("no two are nearer than {distance} ({})", fields.join(", "))
        }
        Requirement::AtOnce { amount, waits, most } => {
            format!("{amount} of those that may run at once, by {waits}, is {most} at the most")
        }
        Requirement::Unlike(fields) => format!("no two values of {} look alike", fields.join(", ")),
    };
    match &rule.by {
        None => what,
        Some(by) if by.is_empty() => format!("{what}; over all records of the table"),
        Some(by) => format!("{what}; for records with the same {}", by.join(" and ")),
    }
}
