//! What is wanted of a table: which columns and rows, in what order, put together how.

use super::{Group, Measure, group};
use crate::Error;
use crate::expressions::{Expression, Value};
use crate::help::NextStep;
use crate::rows::{ColumnPath, Formula, Others, Row, Rows};
use globset::GlobBuilder;
use rayon::prelude::*;

/// What is wanted of a table.
#[derive(Debug, Clone, Default)]
pub struct Query {
    /// The columns: names, patterns with `*` and `?`, references followed with a dot; empty for all.
    pub columns: Vec<String>,
    /// Further columns, computed: `name = expression`.
    pub with: Vec<String>,
    /// A condition that the rows meet.
    pub condition: Option<String>,
    /// A text that the rows have somewhere in their key, name or wanted columns, in any case.
    pub filter: Option<String>,
    /// The columns by which rows are put together.
    pub group: Vec<String>,
    /// What is told of the numbers of the rows put together.
    pub measures: Vec<(Measure, String)>,
    /// Whether only the number of rows is wanted.
    pub count: bool,
    /// The column by which the rows are sorted.
    pub sort: Option<String>,
    /// Whether the order is turned round.
    pub reverse: bool,
}

impl Query {
    /// The names of columns that it speaks of, patterns apart.
    pub fn names(&self) -> Vec<String> {
        let computed = self.with.iter().filter_map(|with| with.split_once('=')).map(|(_, source)| source);
        let expressions = self.condition.as_deref().into_iter().chain(computed);
        let in_expressions = expressions.filter_map(|source| Expression::parse(source).ok());
        let mut names: Vec<String> = in_expressions.flat_map(|own| own.names().to_vec()).collect();
        let plain = self
            .columns
            .iter()
            .chain(&self.group)
            .chain(&self.sort)
            .chain(self.measures.iter().map(|(_, name)| name));
        names.extend(plain.filter(|name| !name.replace("[*]", "").contains(['*', '?'])).cloned());
        names.sort();
        names.dedup();
        names
    }
}

/// What was wanted of a table.
#[derive(Debug, Clone, Default)]
pub struct QueryResult {
    /// The names of the columns.
    pub columns: Vec<String>,
    /// For each column whether it is one of the table itself; its position there.
    pub own: Vec<Option<usize>>,
    /// The lines.
    pub lines: Vec<Line>,
    /// Whether each line stands for several rows.
    pub grouped: bool,
}

/// A line of a sheet.
#[derive(Debug, Clone, PartialEq)]
pub struct Line {
    /// The row it shows, as a position in [`Rows::rows`], if it is not several.
    pub row: Option<usize>,
    /// What it holds in each column; values of the table itself are texts, as they are written.
    pub cells: Vec<Value>,
}

/// A column of a sheet.
enum Source {
    Path(ColumnPath),
    Computed(String),
}

impl QueryResult {
    /// Takes out of `rows` what is wanted.
    ///
    /// # Errors
    /// When a column is not there (with the nearest name), when an expression is wrong or cannot be worked out
    /// (with the row), or when a file that a reference leads to cannot be read.
    pub fn of(rows: &Rows, request: &Query, others: &Others<'_>) -> Result<QueryResult, Error> {
        let with = formulas(rows, &request.with, others)?;
        let computed: Vec<String> = with.iter().map(|(name, _)| name.clone()).collect();
        let condition = request.condition.as_ref();
        let condition =
            condition.map(|source| Formula::parse(source, rows, &computed, others)).transpose()?;
        let mut sources = Vec::new();
        for wanted in &request.columns {
            sources.extend(sources_of(rows, wanted, &computed, others)?);
        }
        if request.columns.is_empty() && !request.count {
            for name in &rows.columns {
                sources.push(Source::Path(ColumnPath::parse(rows, name, others)?));
            }
        }
        for name in computed.iter().filter(|name| !request.columns.contains(name)) {
            sources.push(Source::Computed(name.clone()));
        }
        let answers: Vec<Result<Option<Answers>, Error>> = rows
            .rows
            .par_iter()
            .map(|row| {
                let mut answers: Answers = Vec::with_capacity(with.len());
                for (name, formula) in &with {
                    let answer = formula.answer(rows, row, &answers)?;
                    answers.push((name.clone(), answer));
                }
                let holds = condition.as_ref().map(|condition| condition.holds(rows, row, &answers));
                Ok(holds.transpose()?.unwrap_or(true).then_some(answers))
            })
            .collect();
        let filter = request.filter.as_ref().map(|filter| filter.to_lowercase());
        let mut lines: Vec<(usize, Answers)> = Vec::new();
        for (at, answers) in answers.into_iter().enumerate() {
            let row = &rows.rows[at];
            // Of several rows that cannot be worked out, the first is told.
            let Some(answers) = answers? else { continue };
            let has = |text: &str| filter.as_ref().is_none_or(|filter| text.to_lowercase().contains(filter));
            if has(&row.shown_key())
                || row.label.as_deref().is_some_and(has)
                || sources.iter().any(|source| has(&source.held(rows, row, &answers).shown()))
            {
                lines.push((at, answers));
            }
        }
        if request.count || !request.group.is_empty() || !request.measures.is_empty() {
            return grouped(rows, request, &computed, others, &lines);
        }
        if let Some(sort) = &request.sort {
            let by = source_of(rows, sort, &computed, others)?;
            let mut keyed: Vec<(Value, (usize, Answers))> =
                lines.into_iter().map(|line| (by.value(rows, &rows.rows[line.0], &line.1), line)).collect();
            keyed.sort_by(|(a, _), (b, _)| a.order(b));
            lines = keyed.into_iter().map(|(_, line)| line).collect();
        }
        if request.reverse {
            lines.reverse();
        }
        let line = |(at, answers): (usize, Answers)| {
            let cells = sources.iter().map(|source| source.held(rows, &rows.rows[at], &answers));
            Line { row: Some(at), cells: cells.collect() }
        };
        let own = |source: &Source| match source {
            Source::Path(path) => path.own_column(),
            Source::Computed(_) => None,
        };
        Ok(QueryResult {
            columns: sources.iter().map(|source| source.name().to_owned()).collect(),
            own: sources.iter().map(own).collect(),
            lines: lines.into_iter().map(line).collect(),
            grouped: false,
        })
    }
}

type Answers = Vec<(String, Value)>;

impl Source {
    fn name(&self) -> &str {
        match self {
            Source::Path(path) => &path.name,
            Source::Computed(name) => name,
        }
    }

    /// What it holds, values of the table itself as they are written.
    fn held(&self, rows: &Rows, row: &Row, answers: &Answers) -> Value {
        match self {
            Source::Path(path) if path.own_column().is_some() => Value::Text(path.shown(rows, row)),
            _ => self.value(rows, row, answers),
        }
    }

    /// What it holds, numbers as numbers.
    fn value(&self, rows: &Rows, row: &Row, answers: &Answers) -> Value {
        match self {
            Source::Path(path) => path.held(rows, row),
            Source::Computed(name) => {
                let own = answers.iter().find(|(own, _)| own == name);
                own.map_or(Value::Nothing, |(_, answer)| answer.clone())
            }
        }
    }
}

/// The computed columns, each of which may speak of those before it.
fn formulas(rows: &Rows, with: &[String], others: &Others<'_>) -> Result<Vec<(String, Formula)>, Error> {
    let mut out: Vec<(String, Formula)> = Vec::new();
    for source in with {
        let parts = source.split_once('=').map(|(name, formula)| (name.trim(), formula.trim()));
        let Some((name, formula)) =
            parts.filter(|(name, formula)| !name.is_empty() && !formula.starts_with('='))
        else {
            return Err(Error::Usage {
                message: format!("`{source}` gives no name to what is computed"),
                help: "put a name and `=` in front of it: `final = factor * good.price`".into(),
            });
        };
        let before: Vec<String> = out.iter().map(|(name, _)| name.clone()).collect();
        if rows.columns.iter().any(|column| column == name) || before.iter().any(|own| own == name) {
            return Err(Error::Usage {
                message: format!("there is a column `{name}` already"),
                help: "give what is computed a name of its own".into(),
            });
        }
        out.push((name.to_owned(), Formula::parse(formula, rows, &before, others)?));
    }
    Ok(out)
}

fn source_of(rows: &Rows, name: &str, computed: &[String], others: &Others<'_>) -> Result<Source, Error> {
    Ok(match computed.iter().any(|own| own == name) {
        true => Source::Computed(name.to_owned()),
        false => Source::Path(ColumnPath::parse(rows, name, others)?),
    })
}

/// The columns that `wanted` means: one, or all that fit a pattern.
fn sources_of(
    rows: &Rows,
    wanted: &str,
    computed: &[String],
    others: &Others<'_>,
) -> Result<Vec<Source>, Error> {
    let is_pattern = wanted.contains(['*', '?']) && !rows.columns.iter().any(|column| column == wanted);
    if !is_pattern {
        return Ok(vec![source_of(rows, wanted, computed, others)?]);
    }
    // Names of columns have brackets of their own: only `*` and `?` mean anything else.
    let escaped: String = wanted
        .chars()
        .map(|c| if matches!(c, '[' | ']' | '{' | '}' | '\\') { format!("[{c}]") } else { c.to_string() })
        .collect();
    let glob = GlobBuilder::new(&escaped).case_insensitive(true).build();
    let matcher = glob.map(|glob| glob.compile_matcher()).map_err(|_| rows.no_column(wanted))?;
    let mut names: Vec<String> =
        rows.columns.iter().filter(|column| matcher.is_match(column.as_str())).cloned().collect();
    if let (true, Some((reference, _))) = (names.is_empty(), wanted.rsplit_once('.')) {
        for column in ColumnPath::parse(rows, reference, others)?.onward_columns(rows, others)? {
            let whole = format!("{reference}.{column}");
            if matcher.is_match(&whole) && !names.contains(&whole) {
                names.push(whole);
            }
        }
    }
    let found: Vec<Source> =
        names.iter().map(|name| source_of(rows, name, computed, others)).collect::<Result<_, _>>()?;
    if found.is_empty() { Err(rows.no_column(wanted)) } else { Ok(found) }
}

fn grouped(
    rows: &Rows,
    request: &Query,
    computed: &[String],
    others: &Others<'_>,
    lines: &[(usize, Answers)],
) -> Result<QueryResult, Error> {
    let mut by = Vec::new();
    for name in &request.group {
        by.extend(sources_of(rows, name, computed, others)?);
    }
    let mut measured = Vec::new();
    for (measure, name) in &request.measures {
        measured.push((*measure, source_of(rows, name, computed, others)?));
    }
    let given = lines.iter().map(|(at, answers)| {
        let row = &rows.rows[*at];
        let values = by.iter().map(|source| source.held(rows, row, answers).shown()).collect();
        let numbers = measured.iter().map(|(_, source)| match source.value(rows, row, answers) {
            Value::Number(number) => Some(number),
            _ => None,
        });
        (values, numbers.collect())
    });
    let mut groups: Vec<Group> = group(given);
    if groups.is_empty() && by.is_empty() {
        groups.push(Group { values: Vec::new(), count: 0, numbers: vec![Vec::new(); measured.len()] });
    }
    for (at, (measure, source)) in measured.iter().enumerate() {
        let none = groups.iter().all(|group| group.numbers[at].is_empty());
        if none && !lines.is_empty() {
            return Err(Error::Usage {
                message: format!("`{}` holds no numbers, and so it has no {}", source.name(), measure.name()),
                help: NextStep::ListFields(rows.table.name.clone()).into(),
            });
        }
    }
    let mut columns: Vec<String> = by.iter().map(|source| source.name().to_owned()).collect();
    columns.push("count".to_owned());
    columns
        .extend(measured.iter().map(|(measure, source)| format!("{} of {}", measure.name(), source.name())));
    let mut out: Vec<Line> = groups
        .into_iter()
        .map(|group| {
            let mut cells: Vec<Value> = group.values.into_iter().map(Value::Text).collect();
            cells.push(Value::Number(group.count as f64));
            for ((measure, _), numbers) in measured.iter().zip(&group.numbers) {
                cells.push(measure.of(numbers).map_or(Value::Nothing, Value::Number));
            }
            Line { row: None, cells }
        })
        .collect();
    match &request.sort {
        // The largest groups are asked for most, and so they come first.
        None => out.sort_by(|a, b| b.cells[by.len()].order(&a.cells[by.len()])),
        Some(sort) => {
            let at = columns.iter().position(|column| column == sort).ok_or_else(|| Error::Unknown {
                what: "column",
                name: sort.clone(),
                help: format!("rows that are put together have the columns {}", columns.join(", ")).into(),
            })?;
            out.sort_by(|a, b| a.cells[at].order(&b.cells[at]));
        }
    }
    if request.reverse {
        out.reverse();
    }
    Ok(QueryResult { own: vec![None; columns.len()], columns, lines: out, grouped: true })
}
