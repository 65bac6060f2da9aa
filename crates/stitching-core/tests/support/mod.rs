//! Small projects written as one text each, and helpers to compare what comes of them.
//!
//! A bundle is a text with headings `=== path [flag]...`; what follows a heading is the content of
//! that file. Flags: `crlf` (line ends), `bom` (byte order mark), `bare` (no line end at the end), `in=LABEL`
//! (the encoding), `nul` (a zero byte for each `@`), `empty` (no byte at all), `old` (changed a day ago). What lies below a name that ends with `.zip` goes into
//! an archive; the flag `stored` keeps it from being packed.
//! Without a `stitching.toml` it has the layers `game` and `mod` and the languages `en` and `de`.
#![allow(dead_code, reason = "each test program uses a part of it")]

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};
use stitching_core::journal::{Journal, KeyFile};
use stitching_core::{Error, Problem, Project};
use tempfile::TempDir;

pub const PROJECT: &str = r#"[project]
name = "test"
schema = "schema.toml"

[[layer]]
name = "game"
path = "game"

[[layer]]
name = "mod"
path = "mod"

[languages]
main = "en"
others = "de"
"#;

/// The sections of a bundle by path, in order of their paths.
pub fn sections(bundle: &str) -> BTreeMap<String, Vec<u8>> {
    let mut out = BTreeMap::new();
    for section in bundle.split("\n=== ").flat_map(|part| part.strip_prefix("=== ").or(Some(part))) {
        let (heading, body) = section.split_once('\n').unwrap_or((section, ""));
        let mut words = heading.split_whitespace();
        let Some(path) = words.next() else { continue };
        let flags: Vec<&str> = words.collect();
        let mut body =
            if body.is_empty() || body.ends_with('\n') { body.to_owned() } else { format!("{body}\n") };
        if flags.contains(&"empty") {
            body.clear();
        }
        if flags.contains(&"bare") {
            body.pop();
        }
        if flags.contains(&"crlf") {
            body = body.replace('\n', "\r\n");
        }
        if flags.contains(&"bom") {
            body.insert(0, '\u{feff}');
        }
        let label = flags.iter().find_map(|flag| flag.strip_prefix("in="));
        let bytes = if let Some(label) = label {
            let encoding = stitching_core::text::Encoding::for_label(label).expect("an encoding");
            encoding.encode(&body).expect("it has all the letters")
        } else if flags.contains(&"nul") {
            body.replace('@', "\0").into_bytes()
        } else {
            body.into_bytes()
        };
        out.insert(path.to_owned(), bytes);
    }
    out
}

/// Where temporary folders are made: in memory where the system has that, since nothing here needs to outlive a power
/// loss, and bringing thousands of files to a disk takes minutes.
fn scratch() -> PathBuf {
    let memory = Path::new("/dev/shm");
    if memory.is_dir() { memory.to_owned() } else { std::env::temp_dir() }
}

/// Writes a bundle into a new folder.
pub fn write(bundle: &str) -> TempDir {
    let folder = tempfile::tempdir_in(scratch()).expect("a temporary folder");
    for layer in ["game", "mod"] {
        fs::create_dir(folder.path().join(layer)).expect("a layer");
    }
    let mut files = sections(bundle);
    files.entry("stitching.toml".to_owned()).or_insert_with(|| PROJECT.as_bytes().to_vec());
    let mut archives: BTreeMap<String, Vec<(String, Vec<u8>, bool)>> = BTreeMap::new();
    for (path, bytes) in files {
        if let Some((archive, inner)) = path.split_once(".zip/") {
            let stored = bundle.contains(&format!("=== {path} stored"));
            archives.entry(format!("{archive}.zip")).or_default().push((inner.to_owned(), bytes, stored));
            continue;
        }
        let is_old = bundle.contains(&format!("=== {path} old"));
        let path = folder.path().join(path);
        fs::create_dir_all(path.parent().expect("a folder")).expect("a folder");
        fs::write(&path, bytes).expect("a file");
        if is_old {
            let file = fs::File::options().write(true).open(path).expect("the file");
            file.set_modified(SystemTime::now() - Duration::from_secs(86_400)).expect("another time");
        }
    }
    for (path, entries) in archives {
        let path = folder.path().join(path);
        if path.is_dir() {
            // A layer that is an archive stands in the place of the folder.
            fs::remove_dir(&path).expect("an empty folder");
        }
        fs::create_dir_all(path.parent().expect("a folder")).expect("a folder");
        fs::write(path, zip(&entries)).expect("an archive");
    }
    folder
}

/// An archive with these entries: name, bytes, whether they are stored as they are.
pub fn zip(entries: &[(String, Vec<u8>, bool)]) -> Vec<u8> {
    use zip::write::SimpleFileOptions;
    let mut writer = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    for (name, bytes, stored) in entries {
        let method = if *stored { zip::CompressionMethod::Stored } else { zip::CompressionMethod::Deflated };
        writer.start_file(name, SimpleFileOptions::default().compression_method(method)).expect("an entry");
        std::io::Write::write_all(&mut writer, bytes).expect("an entry");
    }
    writer.finish().expect("an archive").into_inner()
}

/// The bytes of the file at `path` in a layer's folder, perhaps in an archive.
pub fn bytes_at(layer: &Path, path: &str) -> Vec<u8> {
    let (archive, inner) = match path.split_once(".zip/") {
        Some((archive, inner)) if layer.join(format!("{archive}.zip")).is_file() => {
            (format!("{archive}.zip"), inner)
        }
        _ if layer.is_file() => (String::new(), path),
        _ => return fs::read(layer.join(path)).expect("a file"),
    };
    let file = if archive.is_empty() { layer.to_owned() } else { layer.join(archive) };
    let mut archive = zip::ZipArchive::new(fs::File::open(file).expect("an archive")).expect("an archive");
    let mut bytes = Vec::new();
    std::io::Read::read_to_end(&mut archive.by_name(inner).expect("an entry"), &mut bytes).expect("bytes");
    bytes
}

pub fn open(folder: &TempDir) -> Project {
    match Project::open(folder.path()) {
        Ok(project) => project,
        Err(Error::Description(problems)) => panic!("{:#?}", lines(&problems)),
        Err(error) => panic!("{error}"),
    }
}

/// The key of the tests' own.
pub fn key() -> KeyFile {
    KeyFile::in_folder(Path::new(env!("CARGO_TARGET_TMPDIR")))
}

/// The journal of the project in `folder`, with a key of the tests' own. It waits for nobody.
pub fn journal(folder: &Path) -> Journal<'static> {
    let project = Project::open(folder).expect("the project opens");
    Journal::new(folder, project.stack.mod_root().expect("a mod"), &|_| {})
        .with_key(key())
        .with_patience(Duration::ZERO)
}

/// A bundle as a project, with the folder that it lies in.
pub fn project(bundle: &str) -> (TempDir, Project) {
    let folder = write(bundle);
    let project = open(&folder);
    (folder, project)
}

/// All files below a folder with their bytes, without what the tool keeps for itself.
pub fn tree(folder: &Path) -> BTreeMap<String, Vec<u8>> {
    let mut out = BTreeMap::new();
    let mut open = vec![folder.to_owned()];
    while let Some(next) = open.pop() {
        for entry in fs::read_dir(next).expect("a folder").flatten() {
            let path = entry.path();
            if path.file_name().is_some_and(|name| name == ".stitching") {
                continue;
            }
            if path.is_dir() {
                open.push(path);
            } else {
                let name = path.strip_prefix(folder).expect("below").to_string_lossy().replace('\\', "/");
                out.insert(name, fs::read(&path).expect("a file"));
            }
        }
    }
    out
}

/// Problems as one line each.
pub fn lines(problems: &[Problem]) -> Vec<String> {
    problems
        .iter()
        .map(|problem| {
            let place = &problem.place;
            let layer = if place.layer.is_empty() { String::new() } else { format!(" ({})", place.layer) };
            let about = match (&problem.table, &problem.key, &problem.field) {
                (Some(table), Some(key), Some(field)) => format!(" [{table}:{key}.{field}]"),
                (Some(table), Some(key), None) => format!(" [{table}:{key}]"),
                (Some(table), ..) => format!(" [{table}]"),
                _ => String::new(),
            };
            let help =
                problem.help.as_ref().map(|help| format!(" | {}", help_text(help))).unwrap_or_default();
            let related = problem.related.iter().map(|related| {
                format!(" | {}: {}:{}", related.message, related.place.path, related.place.line)
            });
            let inherited = if problem.inherited { " inherited" } else { "" };
            format!(
                "{}[{}]{inherited} {}:{}:{}{layer}{about} {}{help}{}",
                problem.severity.word(),
                problem.code,
                place.path,
                place.line,
                place.column,
                problem.message,
                related.collect::<String>(),
            )
        })
        .collect()
}

/// Compares the last section of a fixture, `name`, with what came out; with `UPDATE_FIXTURES` set
/// it is written instead.
pub fn compare(fixture: &Path, name: &str, found: &str) {
    let bundle = fs::read_to_string(fixture).expect("a fixture");
    let heading = format!("\n=== {name}\n");
    let (head, expected) = bundle.split_once(&heading).unwrap_or((&bundle, ""));
    if std::env::var_os("UPDATE_FIXTURES").is_some() {
        fs::write(fixture, format!("{head}{heading}{found}")).expect("the fixture is written");
        return;
    }
    assert!(expected == found, "{}\n--- expected\n{expected}\n--- found\n{found}", fixture.display());
}

/// Copies a folder with all that is in it.
pub fn copy(from: &Path, to: &Path) {
    for (path, bytes) in tree(from) {
        let target = to.join(path);
        fs::create_dir_all(target.parent().expect("a folder")).expect("a folder");
        fs::write(target, bytes).expect("a copy");
    }
}

/// The words of `help`, with the step that it offers.
pub fn help_text(help: &stitching_core::help::Help) -> String {
    match &help.step {
        Some(step) => format!("{} [{step:?}]", help.text).trim_start().to_owned(),
        None => help.text.clone(),
    }
}
