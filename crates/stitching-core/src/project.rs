//! A project: a folder with a `stitching.toml`.

use crate::Code;
use crate::layers::{Cache, FileId, Layer, LayerId, ModRoot, SetAside, Stack};
use crate::problem::{Place, Problem, Severity};
use crate::reading::View;
use crate::schema::{MentionKind, Reserved, ReservedValues, Schema, keys, read_severity};
use crate::settings::{TomlReader, Value, plain, shortened};
use crate::text::{PathGlob, nearest_of};
use crate::{Error, schema};
use std::path::{Path, PathBuf};
use toml::de::DeTable;

/// The name of the file that makes a folder a project.
pub const PROJECT_FILE: &str = "stitching.toml";

/// An opened project: its layers are listed and its schema is read; no data file is read yet.
#[derive(Debug)]
pub struct Project {
    /// The folder of `stitching.toml`.
    pub folder: PathBuf,
    /// The name of the mod.
    pub name: String,
    /// The layers and their files.
    pub stack: Stack,
    /// The tables.
    pub schema: Schema,
    /// The files that describe them, as `stitching.toml` names them: relative to the folder.
    pub schema_files: Vec<String>,
    /// The text of `stitching.toml` and of the schema files as they were read, one behind the other.
    pub description: String,
}

impl Project {
    /// All layers with the schema.
    pub fn view(&self) -> View<'_> {
        View::top(&self.stack, &self.schema)
    }

    /// The nearest folder from `start` upwards that has a `stitching.toml`.
    ///
    /// # Errors
    /// When there is none.
    pub fn find(start: &Path) -> Result<PathBuf, Error> {
        let absolute = std::path::absolute(start).map_err(|source| Error::io("resolve", start, source))?;
        let found = absolute.ancestors().find(|folder| folder.join(PROJECT_FILE).is_file());
        found.map(Path::to_owned).ok_or(Error::NoProject(absolute))
    }

    /// Opens the project in `folder`.
    ///
    /// # Errors
    /// When a file cannot be read, or the project file or schema has mistakes, with all of them.
    pub fn open(folder: &Path) -> Result<Project, Error> {
        let path = folder.join(PROJECT_FILE);
        if !path.is_file() {
            return Err(Error::NoProject(folder.to_owned()));
        }
        Project::described(folder, &read_text(&path)?, &[])
    }

    /// As [`Project::open`], with something done between reading the description and listing the layers: `prepare`
    /// is given where the mod is. With what it gives, such as a lock, files are listed and read while it lasts.
    ///
    /// # Errors
    /// As [`Project::open`], and those of `prepare`.
    pub fn open_with<G>(
        folder: &Path,
        prepare: impl FnOnce(ModRoot) -> Result<G, Error>,
    ) -> Result<(Project, Option<G>), Error> {
        let path = folder.join(PROJECT_FILE);
        if !path.is_file() {
            return Err(Error::NoProject(folder.to_owned()));
        }
        Project::described_with(folder, &read_text(&path)?, &[], prepare)
    }

    /// Opens the project in `folder` as if its `stitching.toml` were `text`, and each of `schemas` (path
    /// relative to `folder`, content) were there.
    ///
    /// # Errors
    /// As [`Project::open`].
    pub fn described(folder: &Path, text: &str, schemas: &[(String, String)]) -> Result<Project, Error> {
        Project::described_with(folder, text, schemas, |_| Ok(())).map(|(project, _)| project)
    }

    fn described_with<G>(
        folder: &Path,
        text: &str,
        schemas: &[(String, String)],
        prepare: impl FnOnce(ModRoot) -> Result<G, Error>,
    ) -> Result<(Project, Option<G>), Error> {
        let mut reader = TomlReader::new(Code::BAD_PROJECT, PROJECT_FILE, text);
        let described = describe(&mut reader);
        let mut problems = std::mem::take(&mut reader.problems);
        let layers = layers(folder, &described, &mut reader);
        problems.append(&mut reader.problems);
        let mut files = Vec::new();
        for name in &described.schema {
            let path = folder.join(name.get_ref());
            if let Some(given) = schemas.iter().find(|(own, _)| own == name.get_ref()) {
                files.push(given.clone());
                continue;
            }
            match path.is_file() {
                true => files.push((name.get_ref().replace('\\', "/"), read_text(&path)?)),
                false => {
                    let message = format!("there is no schema file `{}`", name.get_ref());
                    reader.problem(name.span(), message, "its path is relative to stitching.toml");
                }
            }
        }
        problems.append(&mut reader.problems);
        let (mut schema, mut mistakes) = schema::read(&files, &described.languages);
        problems.append(&mut mistakes);
        // The project has the last word.
        let own = described.severities.into_iter();
        let own: Vec<_> =
            own.filter_map(|severity| read_severity::bind(&schema, &mut reader, severity)).collect();
        schema.severities.splice(0..0, own);
        for own in &described.reserved {
            schema.reserved.extend(bind_reserved(&schema, &mut reader, own));
        }
        schema.mentions.extend(schema::mentions(&mut reader));
        problems.append(&mut reader.problems);
        if !problems.is_empty() {
            return Err(Error::Description(problems));
        }
        let prepared = ModRoot::of(&layers).map(prepare).transpose()?;
        let kept = SetAside::read(folder)?;
        let stack = Stack::open(layers, schema.file_traits())?.with_kept(kept);
        let description =
            files.iter().fold(text.to_owned(), |all, (name, text)| all + "\0" + name + "\0" + text);
        let schema_files = described.schema.into_iter().map(toml::Spanned::into_inner).collect();
        let folder = folder.to_owned();
        let project = Project { folder, name: described.name, stack, schema, schema_files, description };
        Ok((project, prepared))
    }

    /// The project with a place, in the tool's own folder, where what is found out about the files is kept for
    /// the next run.
    pub fn with_cache(self) -> Project {
        let cache = Cache::new(self.folder.clone(), &self.description);
        Project { stack: self.stack.with_cache(cache), ..self }
    }

    /// The project with other layers: those that a change would leave.
    pub fn with_stack(&self, stack: Stack) -> Project {
        Project {
            folder: self.folder.clone(),
            name: self.name.clone(),
            stack,
            schema: self.schema.clone(),
            schema_files: self.schema_files.clone(),
            description: self.description.clone(),
        }
    }

    /// The project in `folder`; or, if that has no `stitching.toml`, the files in it as the only layer,
    /// read by the schema of this project. An archive will do too.
    ///
    /// # Errors
    /// When there is no such folder or archive, with the names of the layers, or the project there cannot be opened.
    pub fn beside(&self, folder: &Path) -> Result<Project, Error> {
        if !folder.exists() {
            let layers: Vec<&str> = self.stack.layers().iter().map(|layer| layer.name.as_str()).collect();
            let help = format!("the layers are {}; folders are taken from where you are", layers.join(", "));
            let name = folder.display().to_string();
            return Err(Error::Unknown { what: "layer, folder or archive", name, help: help.into() });
        }
        if folder.join(PROJECT_FILE).is_file() {
            return Project::open(folder);
        }
        let root = folder.canonicalize().map_err(|source| Error::io("open", folder, source))?;
        let archives = self.stack.layers().first().map(|layer| layer.archives.clone()).unwrap_or_default();
        let layer = Layer { name: folder.display().to_string(), root, is_mod: false, archives };
        Ok(Project {
            folder: folder.to_owned(),
            name: self.name.clone(),
            stack: Stack::open(vec![layer], self.schema.file_traits())?,
            schema: self.schema.clone(),
            schema_files: Vec::new(),
            description: String::new(),
        })
    }

    /// What `name` stands for, to copy from: a layer of the project with those below it; or the data of another project, folder or
    /// archive, whose path is taken from where the program runs or else from the project's folder, read by the schema of this one. What is changed in memory is as if it were changed in its topmost layer.
    ///
    /// # Errors
    /// As [`Project::beside`]; and when it is the layer that is worked on.
    pub fn source(&self, name: &str) -> Result<Project, Error> {
        match self.layer(name) {
            Ok(layer) if layer == self.stack.top() => Err(Error::Usage {
                message: format!("`{name}` is the layer that is worked on"),
                help: "name a lower layer, or another project".into(),
            }),
            Ok(layer) => self.of_layers(self.stack.layers()[..=layer].to_vec(), Vec::new()),
            Err(_) => {
                // A recipe is the same wherever it is run from.
                let of_project = Some(self.folder.join(name)).filter(|path| path.exists());
                let given = Path::new(name).to_owned();
                let folder = if given.exists() { given } else { of_project.unwrap_or(given) };
                let other = self.beside(&folder)?;
                self.of_layers(other.stack.layers().to_vec(), other.stack.kept().to_vec())
            }
        }
    }

    /// These layers read by the schema of the project, the last of them as the one that is worked on.
    fn of_layers(&self, mut layers: Vec<Layer>, kept: Vec<SetAside>) -> Result<Project, Error> {
        let last = layers.len().saturating_sub(1);
        for (at, layer) in layers.iter_mut().enumerate() {
            layer.is_mod = at == last;
        }
        Ok(self.with_stack(Stack::open(layers, self.schema.file_traits())?.with_kept(kept)))
    }

    /// The layer called `name`.
    ///
    /// # Errors
    /// When there is none, with the nearest names.
    pub fn layer(&self, name: &str) -> Result<LayerId, Error> {
        let layers = self.stack.layers();
        layers.iter().position(|layer| layer.name == name).ok_or_else(|| {
            let names: Vec<&str> = layers.iter().map(|layer| layer.name.as_str()).collect();
            Error::Unknown {
                what: "layer",
                name: name.to_owned(),
                help: format!("the layers are {}", names.join(", ")).into(),
            }
        })
    }

    /// The layer at which the stack is to end: the one called `name`, or the highest.
    ///
    /// # Errors
    /// When there is no such layer.
    pub fn through(&self, name: Option<&str>) -> Result<LayerId, Error> {
        name.map_or(Ok(self.stack.top()), |name| self.layer(name))
    }

    /// The name of the layer that a file lies in.
    pub fn layer_name(&self, file: FileId) -> &str {
        &self.stack.layers()[self.stack.files()[file].layer].name
    }
}

struct DescribedLayer {
    name: String,
    path: toml::Spanned<String>,
    archives: Vec<PathGlob>,
}

/// Which files of a layer are archives, unless it says otherwise.
const ARCHIVES: &str = "**/*.zip";

struct Described {
    name: String,
    schema: Vec<toml::Spanned<String>>,
    layers: Vec<DescribedLayer>,
    languages: Vec<String>,
    reserved: Vec<(toml::Spanned<String>, ReservedValues)>,
    severities: Vec<read_severity::UnboundSeverity>,
}

fn describe(reader: &mut TomlReader<'_>) -> Described {
    let top = reader.parse();
    reader.check_keys(&top, keys::PROJECT_TOP, |_| false);
    let empty = DeTable::new();
    let project = reader.table(&top, "project").unwrap_or(&empty);
    reader.check_keys(project, keys::PROJECT, |_| false);
    let languages = reader.table(&top, "languages").unwrap_or(&empty);
    reader.check_keys(languages, keys::LANGUAGES, |_| false);
    let mut codes: Vec<String> =
        reader.text(languages, "main").map(|text| text.into_inner()).into_iter().collect();
    codes.extend(reader.texts(languages, "others").map(plain).unwrap_or_default());
    if codes.is_empty() {
        codes.push("en".to_owned());
    }
    codes.truncate(64);
    let mut described = Described {
        name: reader.text(project, "name").map(|text| text.into_inner()).unwrap_or_default(),
        schema: reader.texts(project, "schema").unwrap_or_default(),
        layers: Vec::new(),
        languages: codes,
        reserved: reserved(reader, &top),
        severities: read_severity::read(reader, &top),
    };
    if described.schema.is_empty() {
        reader.problem(0..0, "no schema is named", "under [project] write schema = [\"game.schema.toml\"]");
    }
    let Some(layers) = top.get("layer") else {
        reader.problem(
            0..0,
            "no layers are named",
            "write one [[layer]] with a name and a path for the game and, last, one for the mod",
        );
        return described;
    };
    let tables: Vec<&Value<'_>> =
        layers.get_ref().as_array().map(|list| list.iter().collect()).unwrap_or_default();
    if tables.is_empty() {
        reader.wrong_kind(layers, "layer", "a list of tables, each headed [[layer]]");
    }
    for value in tables {
        let Some(layer) = value.get_ref().as_table() else {
            reader.wrong_kind(value, "layer", "a table headed [[layer]]");
            continue;
        };
        reader.check_keys(layer, keys::LAYER, |_| false);
        let Some(path) = reader.text(layer, "path") else {
            reader.problem(
                value.span(),
                "the layer has no `path`",
                "give its folder, relative to stitching.toml",
            );
            continue;
        };
        let name =
            reader.text(layer, "name").map_or_else(|| path.get_ref().clone(), |name| name.into_inner());
        if described.layers.iter().any(|other| other.name == name) {
            reader.problem(value.span(), format!("two layers are called `{name}`"), "give each its own name");
        }
        let archives = archives(reader, layer);
        described.layers.push(DescribedLayer { name, path, archives });
    }
    described
}

/// What is set aside, each with the table or field as it is written.
fn reserved<'t>(
    reader: &mut TomlReader<'t>,
    top: &DeTable<'t>,
) -> Vec<(toml::Spanned<String>, ReservedValues)> {
    let mut out = Vec::new();
    let Some(table) = reader.table(top, "reserved") else { return out };
    for (name, value) in table {
        let numbers: Option<Vec<i64>> = value.get_ref().as_array().and_then(|list| {
            list.iter()
                .map(|number| number.get_ref().as_integer().and_then(|own| own.as_str().parse().ok()))
                .collect()
        });
        let values = match (numbers.as_deref(), value.get_ref().as_str()) {
            (Some([first, last]), _) if first <= last => ReservedValues::Numbers(*first, *last),
            (_, Some(prefix)) if !prefix.is_empty() => ReservedValues::Prefix(prefix.to_owned()),
            _ => {
                let expected =
                    "a list of the first and the last number, [5000, 5999], or how names begin, \"fg_\"";
                reader.wrong_kind(value, name.get_ref(), expected);
                continue;
            }
        };
        out.push((toml::Spanned::new(name.span(), name.get_ref().to_string()), values));
    }
    out
}

/// Finds what is set aside in the schema: a table, or a field of one.
fn bind_reserved(
    schema: &Schema,
    reader: &mut TomlReader<'_>,
    (name, values): &(toml::Spanned<String>, ReservedValues),
) -> Option<Reserved> {
    let written = name.get_ref();
    let field = written.match_indices('.').find_map(|(at, _)| {
        let table = schema.table(&written[..at])?;
        Some((table, Some(schema.tables[table].field(&written[at + 1..])?)))
    });
    let found = field.or_else(|| schema.table(written).map(|table| (table, None)));
    let Some((table, field)) = found else {
        let message = format!("`{written}` is no table of the schema, and no field that it describes");
        let help = "write \"table.field\" = [first, last], or \"table\" = \"how its new keys begin\"";
        reader.problem(name.span(), message, help);
        return None;
    };
    reader.names_table(name.span(), &schema.tables[table].name, MentionKind::Name);
    if field.is_none() && schema.tables[table].key.is_empty() {
        let message = format!("the table `{written}` has no `key` that could be set aside");
        reader.problem(name.span(), message, "name a field: \"table.field\" = [first, last]");
        return None;
    }
    Some(Reserved { table, field, values: values.clone() })
}

fn archives<'t>(reader: &mut TomlReader<'t>, layer: &DeTable<'t>) -> Vec<PathGlob> {
    let default = || vec![toml::Spanned::new(0..0, ARCHIVES.to_owned())];
    let mut out = Vec::new();
    for pattern in reader.texts(layer, "archives").unwrap_or_else(default) {
        match PathGlob::parse(pattern.get_ref(), true) {
            Ok(glob) => out.push(glob),
            Err(why) => {
                let message = format!("`{}` is not a pattern for files: {why}", shortened(pattern.get_ref()));
                reader.problem(pattern.span(), message, "use `*` within a name and `**` for any folders");
            }
        }
    }
    out
}

/// The layers with their folders, which must be there and apart from each other.
fn layers(folder: &Path, described: &Described, reader: &mut TomlReader<'_>) -> Vec<Layer> {
    let mut out: Vec<Layer> = Vec::new();
    let count = described.layers.len();
    for (index, DescribedLayer { name, path, archives }) in described.layers.iter().enumerate() {
        let root = folder.join(path.get_ref());
        let Ok(real) = root.canonicalize() else {
            let message = format!("the layer `{name}` has no folder or archive `{}`", path.get_ref());
            reader.problem(path.span(), message, near_folder(&root));
            continue;
        };
        if !real.is_dir() && !real.is_file() {
            let message = format!("`{}` is neither a folder nor a file", path.get_ref());
            reader.problem(path.span(), message, "a layer is a folder of files, or a zip archive");
            continue;
        }
        let clash = out.iter().find(|other| other.root.starts_with(&real) || real.starts_with(&other.root));
        if let Some(other) = clash {
            let message = format!("the layers `{}` and `{name}` lie one inside the other", other.name);
            reader.problem(
                path.span(),
                message,
                "each layer needs a folder of its own, so that the base is never written",
            );
            continue;
        }
        let (name, archives) = (name.clone(), archives.clone());
        out.push(Layer { name, root: real, is_mod: index + 1 == count, archives });
    }
    out
}

fn near_folder(missing: &Path) -> String {
    let wanted = missing.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    let folders = missing.parent().and_then(|parent| parent.read_dir().ok()).into_iter().flatten().flatten();
    let names: Vec<String> = folders.map(|entry| entry.file_name().to_string_lossy().into_owned()).collect();
    match nearest_of(&wanted, names.iter().map(String::as_str)).first() {
        Some(near) => format!("there is `{near}` beside it"),
        None => "the path is relative to stitching.toml".to_owned(),
    }
}

fn read_text(path: &Path) -> Result<String, Error> {
    let bytes = std::fs::read(path).map_err(|source| Error::io("read", path, source))?;
    let text = String::from_utf8(bytes).map_err(|error| {
        let name = path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        let message = format!("byte {} is not valid UTF-8", error.utf8_error().valid_up_to() + 1);
        let mut problem = Problem::new(Code::BAD_PROJECT, Severity::Error, message, Place::file(&name, ""));
        problem.help = Some("save the file as UTF-8".into());
        Error::Description(vec![problem])
    })?;
    Ok(text.strip_prefix('\u{feff}').map(str::to_owned).unwrap_or(text))
}
