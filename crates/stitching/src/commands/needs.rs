//! `stitching needs`, and the trees of `stitching uses`

use crate::args::{Branches, Global, Needs};
use crate::render::{human, json};
use crate::ui::{BOLD, DIM, RED, Ui, count, styled, wants_json};
use serde::Serialize;
use std::process::ExitCode;
use stitching_core::layers::LayerId;
use stitching_core::links::{Labels, find_table, resolve};
use stitching_core::reading::PlaceResolver;
use stitching_core::views::{Described, Direction, Graph, Node, Tree};
use stitching_core::{Error, Project};

pub fn run(project: &Project, args: &Needs, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    let as_json = wants_json(global)?;
    let through = project.through(args.through.through.as_deref())?;
    tree(project, &args.address, Direction::Needs, &args.tree, through, as_json, ui)
}

/// Shows the tree of what a record needs, or of what uses it.
pub fn tree(
    project: &Project,
    address: &str,
    direction: Direction,
    branches: &Branches,
    through: LayerId,
    as_json: bool,
    ui: &Ui,
) -> Result<ExitCode, Error> {
    let (stack, _schema) = (&project.stack, &project.schema);
    let view = project.view().until(through);
    let found = resolve(view, address)?;
    let graph = ui.progress("reading", || Graph::read(view));
    let node = graph.node(&found).ok_or_else(|| Error::Unknown {
        what: "record",
        name: address.to_owned(),
        help: "its file changed while it was read; run the command again".into(),
    })?;
    const DEEPEST: usize = 64;
    let tree = graph.tree(node, direction, branches.depth.clamp(1, DEEPEST));
    let labels = Labels::read(view);
    let mut teller =
        Teller { project, graph, labels, places: PlaceResolver::new(stack), direction, most: branches.most };
    if as_json {
        ui.json(&teller.shape(&tree)?);
        return Ok(ExitCode::SUCCESS);
    }
    let mut out = teller.line(&tree, 0)?;
    teller.below(&tree, 1, &mut out)?;
    if tree.count == 0 && tree.nowhere == 0 {
        out += match direction {
            Direction::Uses => "\nnothing refers to it\n",
            Direction::Needs => "\nit refers to nothing\n",
        };
    }
    ui.out(&out);
    Ok(ExitCode::SUCCESS)
}

/// A node of the tree of `needs` and of `uses --deep`, with all below it.
#[derive(Debug, Serialize)]
struct TreeShape<'t> {
    table: Option<&'t str>,
    key: Option<String>,
    label: Option<String>,
    by: &'t [String],
    count: usize,
    nowhere: usize,
    told_above: bool,
    below: Vec<TreeShape<'t>>,
    #[serde(flatten)]
    place: Where<'t>,
}

/// Where a node is: a record at a place, or a whole file.
#[derive(Debug, Serialize)]
#[serde(untagged)]
enum Where<'t> {
    Place(json::PlaceShape<'t>),
    File { path: String, layer: &'t str },
}

/// The result of `uses --unused`.
#[derive(Debug, Serialize)]
struct UnusedShape<'t> {
    tables: Vec<UnusedTable<'t>>,
}

#[derive(Debug, Serialize)]
struct UnusedTable<'t> {
    table: &'t str,
    records: usize,
    unused: Vec<json::Placed<'t, UnusedRecord>>,
}

#[derive(Debug, Serialize)]
struct UnusedRecord {
    key: String,
    label: Option<String>,
}

struct Teller<'t> {
    project: &'t Project,
    graph: Graph<'t>,
    labels: Labels,
    places: PlaceResolver<'t>,
    direction: Direction,
    most: usize,
}

impl<'t> Teller<'t> {
    fn describe(&mut self, node: Node) -> Result<(Described, Option<String>), Error> {
        let told = self.graph.describe(node, &mut self.places)?;
        let table = told.table.map(|table| &self.project.schema.tables[table]);
        let label = table.and_then(|table| match &table.texts {
            Some(_) => self.labels.text(&told.key).map(str::to_owned),
            None => self.labels.name(table, told.label_value.as_deref()?),
        });
        Ok((told, label))
    }

    /// One line for a node, `deep` steps below the first.
    fn line(&mut self, tree: &Tree, deep: usize) -> Result<String, Error> {
        let (told, label) = self.describe(tree.node)?;
        let name = match told.table {
            Some(table) => {
                human::record(&self.project.schema.tables[table].name, &told.key, label.as_deref())
            }
            None => format!("file {}", told.key),
        };
        let name = if deep == 0 { styled(BOLD, name) } else { name };
        let by: Vec<&str> = tree.by.iter().map(String::as_str).filter(|by| !by.is_empty()).collect();
        let by = if by.is_empty() { String::new() } else { styled(DIM, format!("  {}", by.join(", "))) };
        let number = match (tree.count, tree.told, self.direction) {
            (_, true, _) => styled(DIM, "  (above)"),
            (0, ..) => String::new(),
            (number, _, Direction::Uses) => format!("  used by {number}"),
            (number, _, Direction::Needs) => format!("  needs {number}"),
        };
        let nowhere = match tree.nowhere {
            0 => String::new(),
            nowhere => styled(RED, format!("  {nowhere} lead nowhere")),
        };
        Ok(format!("{}{name}{by}{number}{nowhere}\n", "  ".repeat(deep)))
    }

    fn below(&mut self, tree: &Tree, deep: usize, out: &mut String) -> Result<(), Error> {
        for own in tree.below.iter().take(self.most) {
            *out += &self.line(own, deep)?;
            self.below(own, deep + 1, out)?;
        }
        if tree.below.len() > self.most {
            let more =
                format!("and {} more; `--most {}` shows all", tree.below.len() - self.most, tree.below.len());
            *out += &format!("{}{}\n", "  ".repeat(deep), styled(DIM, more));
        }
        Ok(())
    }

    fn shape<'s>(&mut self, tree: &'s Tree) -> Result<TreeShape<'s>, Error>
    where
        't: 's,
    {
        let (told, label) = self.describe(tree.node)?;
        let project: &'t Project = self.project;
        let below = tree.below.iter().map(|own| self.shape(own)).collect::<Result<_, _>>()?;
        let is_file = told.table.is_none();
        Ok(TreeShape {
            table: told.table.map(|table| project.schema.tables[table].name.as_str()),
            key: (!is_file).then(|| told.key.clone()),
            label,
            by: &tree.by,
            count: tree.count,
            nowhere: tree.nowhere,
            told_above: tree.told,
            below,
            place: match told.place {
                Some(place) => Where::Place(place.into()),
                None => Where::File { path: told.key, layer: project.layer_name(told.file) },
            },
        })
    }
}

/// Shows the records that nothing refers to.
pub fn unused(
    project: &Project,
    table: Option<&str>,
    through: LayerId,
    as_json: bool,
    ui: &Ui,
) -> Result<ExitCode, Error> {
    let (stack, schema) = (&project.stack, &project.schema);
    let view = project.view().until(through);
    let only = table.map(|name| find_table(schema, name)).transpose()?;
    let graph = ui.progress("reading", || Graph::read(view));
    let mut found = graph.unused();
    if let Some(only) = only {
        found.retain(|(table, ..)| *table == only);
        if found.is_empty() {
            return Err(Error::Usage {
                message: format!(
                    "nothing can refer to `{}`: the schema has no reference to it",
                    schema.tables[only].name
                ),
                help: "`stitching learn` proposes references".into(),
            });
        }
    }
    let labels = Labels::read(view);
    let mut teller = Teller {
        project,
        graph,
        labels,
        places: PlaceResolver::new(stack),
        direction: Direction::Uses,
        most: 0,
    };
    if as_json {
        let mut tables = Vec::new();
        for (table, records, unused) in found {
            let mut own = Vec::new();
            for record in unused {
                let (told, label) = teller.describe(Node::Record(record))?;
                let head = UnusedRecord { key: told.key, label };
                own.extend(told.place.map(|place| json::placed(head, place)));
            }
            tables.push(UnusedTable { table: &schema.tables[table].name, records, unused: own });
        }
        ui.json(&UnusedShape { tables });
        return Ok(ExitCode::SUCCESS);
    }
    const MOST: usize = 20;
    // Of a table in which few records are used most are not meant to be: its own are told when it is asked for.
    let most = |unused: usize, records: usize| match only {
        Some(_) => usize::MAX,
        None if unused > MOST && unused * 4 > records * 3 => 0,
        None => MOST,
    };
    let (mut out, paths) = (String::new(), human::Paths::of(project));
    let total: usize = found.iter().map(|(_, _, unused)| unused.len()).sum();
    for (table, records, unused) in found.iter().filter(|(_, _, unused)| !unused.is_empty()) {
        let name = &schema.tables[*table].name;
        out += &format!("{}  {} of {}\n", styled(BOLD, name), unused.len(), count(*records, "record"));
        let most = most(unused.len(), *records);
        for record in unused.iter().take(most) {
            let (told, label) = teller.describe(Node::Record(*record))?;
            let at = told.place.map(|place| paths.place(&place)).unwrap_or_default();
            out += &format!("  {}  {}\n", human::record(name, &told.key, label.as_deref()), styled(DIM, at));
        }
        if unused.len() > most {
            let more = match most {
                0 => format!(
                    "most are not meant to be used, it seems; `stitching uses --unused {name}` lists them"
                ),
                _ => format!("and {} more; `stitching uses --unused {name}` lists them", unused.len() - most),
            };
            out += &format!("  {}\n", styled(DIM, more));
        }
        out.push('\n');
    }
    out += &match total {
        0 => "everything is used\n".to_owned(),
        1 => "nothing refers to 1 record\n".to_owned(),
        total => format!("nothing refers to {}\n", count(total, "record")),
    };
    ui.out(&out);
    Ok(ExitCode::SUCCESS)
}
