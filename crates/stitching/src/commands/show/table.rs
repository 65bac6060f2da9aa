//! `stitching show TABLE`

use crate::args::{Format, Global, Show};
use crate::render::{human, json, table};
use crate::ui::{Ui, count, grouped};
use serde::ser::{Serialize, Serializer};
use std::process::ExitCode;
use stitching_core::expressions::Value as Computed;
use stitching_core::links::Labels;
use stitching_core::reading::PlaceResolver;
use stitching_core::rows::{Others, Row, Rows};
use stitching_core::schema::TableId;
use stitching_core::views::{Line, Measure, Query, QueryResult};
use stitching_core::{Error, Project};

/// The result of `show TABLE`.
#[derive(Debug, serde::Serialize)]
#[serde(untagged)]
enum TableShape<'t> {
    Records { table: &'t str, records: Vec<LineShape<'t>>, total: usize },
    Groups { table: &'t str, groups: Vec<LineShape<'t>>, total: usize },
}

/// A line of the table: a record at its place, or a group.
#[derive(Debug, serde::Serialize)]
#[serde(untagged)]
enum LineShape<'t> {
    Record {
        #[serde(flatten)]
        record: json::Placed<'t, RowShape<'t>>,
        fields: CellsShape<'t>,
    },
    Group(CellsShape<'t>),
}

#[derive(Debug, serde::Serialize)]
struct RowShape<'t> {
    key: String,
    label: Option<&'t str>,
    row: u32,
}

/// The cells of a line by their columns.
#[derive(Debug)]
struct CellsShape<'t> {
    columns: &'t [String],
    cells: &'t [Computed],
}

impl Serialize for CellsShape<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_map(self.columns.iter().zip(self.cells.iter().map(CellShape)))
    }
}

/// Values of the table itself are texts, what is computed is what it is.
struct CellShape<'t>(&'t Computed);

impl Serialize for CellShape<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self.0 {
            Computed::Nothing => serializer.serialize_none(),
            Computed::Number(number) if *number == number.trunc() && number.abs() < 9e15 => {
                serializer.serialize_i64(*number as i64)
            }
            Computed::Number(number) => serializer.serialize_f64(*number),
            Computed::Truth(truth) => serializer.serialize_bool(*truth),
            Computed::Record(fields) => {
                serializer.collect_map(fields.iter().map(|(name, held)| (name, CellShape(held))))
            }
            Computed::Text(text) => serializer.serialize_str(text),
            Computed::List(items) => serializer.collect_seq(items.iter().map(CellShape)),
        }
    }
}

/// For people a table with so many rows is cut, unless `--to` says how far.
const MOST_ROWS: usize = 200;

pub fn run(project: &Project, id: TableId, args: &Show, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    let schema = &project.schema;
    let through = project.through(args.through.through.as_deref())?;
    let view = project.view().until(through);
    let labels = Labels::read(view);
    let others = Others::new(view, &labels);
    let request = request(args);
    let rows = ui.progress("reading", || others.rows_with(id, request.names()))?;
    let sheet = QueryResult::of(&rows, &request, &others)?;
    let all = sheet.lines.len();
    let most = if global.format == Format::Human { args.from.saturating_add(MOST_ROWS - 1) } else { all };
    let to = args.to.unwrap_or(most).min(all);
    let from = args.from.max(1).min(all + 1);
    let shown = sheet.lines.get(from - 1..to.max(from - 1)).unwrap_or(&[]);
    let mut view = Lines::new(project, &rows, &sheet, args.positions);
    match global.format {
        Format::Json => {
            let lines: Vec<LineShape<'_>> =
                shown.iter().map(|line| view.shape(line)).collect::<Result<_, _>>()?;
            let table = schema.tables[id].name.as_str();
            ui.json(&match sheet.grouped {
                true => TableShape::Groups { table, groups: lines, total: all },
                false => TableShape::Records { table, records: lines, total: all },
            });
        }
        Format::JsonLines => {
            for line in shown {
                ui.out(&format!("{}\n", json::line(&view.shape(line)?)));
            }
        }
        Format::Delimited => {
            let lines: Vec<Vec<String>> =
                shown.iter().map(|line| view.cells(line, &Fit::Data)).collect::<Result<_, _>>()?;
            ui.out(&delimited(&view.header(), &lines)?);
        }
        Format::Markdown => {
            let lines: Vec<Vec<String>> =
                shown.iter().map(|line| view.cells(line, &Fit::Document)).collect::<Result<_, _>>()?;
            let (header, lines, numbers) = match args.transposed {
                true => table::transposed(view.header(), lines),
                false => (view.header(), lines, view.numbers()),
            };
            ui.out(&markdown(&header, &lines, &numbers));
        }
        _ => {
            let lines: Vec<Vec<String>> =
                shown.iter().map(|line| view.cells(line, &Fit::People)).collect::<Result<_, _>>()?;
            let held = view.header();
            let (header, lines, fixed) = match args.transposed {
                true => {
                    let (header, lines, _) = table::transposed(held, lines);
                    (header, lines, 1)
                }
                false => {
                    let name = usize::from(held.get(1).is_some_and(|own| own == "name"));
                    (held, lines, if sheet.grouped { 0 } else { 1 + name })
                }
            };
            let mut out = table::in_blocks(&header, &lines, fixed, ui.width(), ui.height());
            let what = if sheet.grouped { "group" } else { "record" };
            if shown.is_empty() && all > 0 {
                out.push_str(&format!(
                    "\nno rows are shown of {}; `--from` and `--to` say which\n",
                    grouped(all)
                ));
            } else if shown.len() < all {
                let (from, to, all) = (grouped(from), grouped(to), grouped(all));
                out.push_str(&format!("\nrows {from} to {to} of {all}; `--from` and `--to` show others\n"));
            } else if !(sheet.grouped && all == 1) {
                out.push_str(&format!("\n{}\n", count(all, what)));
            }
            ui.out(&out);
        }
    }
    Ok(ExitCode::SUCCESS)
}

fn request(args: &Show) -> Query {
    let kinds = [
        (Measure::Sum, &args.sum),
        (Measure::Mean, &args.mean),
        (Measure::Lowest, &args.lowest),
        (Measure::Highest, &args.highest),
    ];
    let measures =
        kinds.iter().flat_map(|(measure, names)| names.iter().map(|name| (*measure, name.clone())));
    Query {
        columns: args.columns.clone(),
        with: args.with.clone(),
        condition: args.condition.clone(),
        filter: args.filter.clone(),
        group: args.group.clone(),
        measures: measures.collect(),
        count: args.count,
        sort: args.sort.clone(),
        reverse: args.reverse,
    }
}

/// Where cells go, and what they must be made fit for.
enum Fit {
    /// A terminal.
    People,
    /// A program.
    Data,
    /// A document in Markdown.
    Document,
}

impl Fit {
    fn text(&self, text: &str) -> String {
        match self {
            Fit::People => human::clean(text),
            Fit::Data => text.to_owned(),
            Fit::Document => text.replace('\\', "\\\\").replace('|', "\\|").replace(['\r', '\n'], " "),
        }
    }

    /// What the player sees stands in quotes, but for programs.
    fn name(&self, name: &str) -> String {
        match self {
            Fit::Data => name.to_owned(),
            _ => format!("\"{}\"", self.text(name)),
        }
    }

    fn held(&self, held: &Computed) -> String {
        match self {
            Fit::Data => held.shown(),
            _ => self.text(&held.brief()),
        }
    }
}

/// What is needed to write the lines of a sheet.
struct Lines<'v> {
    project: &'v Project,
    rows: &'v Rows,
    sheet: &'v QueryResult,
    places: PlaceResolver<'v>,
    positions: bool,
    /// Whether the records have names.
    named: bool,
    /// The columns that are written behind the key.
    columns: Vec<usize>,
}

impl<'v> Lines<'v> {
    fn new(project: &'v Project, rows: &'v Rows, sheet: &'v QueryResult, positions: bool) -> Lines<'v> {
        let named = rows.rows.iter().any(|row| row.label.is_some());
        // The key would only be repeated.
        let repeats = |column: &usize| {
            let field = sheet.own[*column].map(|own| rows.fields[own]);
            let (table, name) = (&rows.table, &sheet.columns[*column]);
            let in_front = name == "key" || (name == "name" && named);
            field.is_some_and(|field| table.key.len() == 1 && table.is_key_field(field))
                || (in_front && sheet.own[*column].is_none() && !sheet.grouped)
        };
        let columns = (0..sheet.columns.len()).filter(|column| !repeats(column)).collect();
        let places = PlaceResolver::new(&project.stack);
        Lines { project, rows, sheet, places, positions, named, columns }
    }

    /// What stands over the cells.
    fn header(&self) -> Vec<String> {
        let mut header = Vec::new();
        if !self.sheet.grouped {
            header.push("key".to_owned());
            header.extend(self.named.then(|| "name".to_owned()));
        }
        header.extend(self.columns.iter().map(|column| self.sheet.columns[*column].clone()));
        if self.positions && !self.sheet.grouped {
            header.extend(["place".to_owned(), "row".to_owned()]);
        }
        header
    }

    /// Which columns hold numbers only.
    fn numbers(&self) -> Vec<bool> {
        let of_columns = self.columns.iter().map(|column| {
            let mut cells = self.sheet.lines.iter().map(|line| line.cells[*column].shown());
            cells.all(|text| text.is_empty() || text.parse::<f64>().is_ok())
        });
        let before = self.header().len() - self.columns.len() - if self.positions { 2 } else { 0 };
        vec![false; before].into_iter().chain(of_columns).chain([false, true]).collect()
    }

    /// The cells of a line, each made fit for where it goes.
    fn cells(&mut self, line: &Line, fit: &Fit) -> Result<Vec<String>, Error> {
        let mut cells = Vec::new();
        let row = line.row.map(|row| &self.rows.rows[row]);
        if let Some(row) = row {
            cells.push(fit.text(&row.shown_key()));
            if self.named {
                cells.push(row.label.as_deref().map(|label| fit.name(label)).unwrap_or_default());
            }
        }
        cells.extend(self.columns.iter().map(|column| fit.held(&line.cells[*column])));
        if let Some(row) = row.filter(|_| self.positions) {
            let place = self.places.place(row.file, row.span)?;
            cells.push(human::Paths::of(self.project).place(&place));
            cells.push(row.number.to_string());
        }
        Ok(cells)
    }

    fn shape(&mut self, line: &'v Line) -> Result<LineShape<'v>, Error> {
        let (rows, sheet) = (self.rows, self.sheet);
        let fields = CellsShape { columns: &sheet.columns, cells: &line.cells };
        let Some(row) = line.row else { return Ok(LineShape::Group(fields)) };
        let row: &'v Row = &rows.rows[row];
        let head = RowShape { key: row.shown_key(), label: row.label.as_deref(), row: row.number };
        let place = self.places.place(row.file, row.span)?;
        Ok(LineShape::Record { record: json::placed(head, place), fields })
    }
}

fn delimited(header: &[String], lines: &[Vec<String>]) -> Result<String, Error> {
    let fails = |error: csv::Error| Error::Usage {
        message: format!("the table cannot be written as delimited text: {error}"),
        help: "use --format json".into(),
    };
    let mut writer = csv::Writer::from_writer(Vec::new());
    writer.write_record(header).map_err(fails)?;
    for line in lines {
        writer.write_record(line).map_err(fails)?;
    }
    let bytes = writer.into_inner().map_err(|error| fails(error.into_error().into()))?;
    Ok(String::from_utf8_lossy(&bytes).into_owned())
}

fn markdown(header: &[String], lines: &[Vec<String>], numbers: &[bool]) -> String {
    let line = |cells: &[String]| format!("| {} |\n", cells.join(" | "));
    let under = header.iter().enumerate().map(|(at, _)| match numbers.get(at) {
        Some(true) => "---:".to_owned(),
        _ => "---".to_owned(),
    });
    let mut out = line(header) + &line(&under.collect::<Vec<_>>());
    out.extend(lines.iter().map(|cells| line(cells)));
    out
}
