//! Changes of every sort, to be made while calls fail, the process dies, or other programs save.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]
#![allow(dead_code, reason = "each test program uses a part of it")]

use crate::support;
use std::collections::BTreeMap;
use std::fs;
use std::path::Path;
use std::sync::Mutex;
use stitching_core::changes::{
    Builder, Change, CopyRequest, RemoveRequest, copy, remove, rename, switch_off, switch_on,
};
use stitching_core::journal::{Call, CallHook, ChangedSince, Journal, NO_HOOK, Recovered};
use stitching_core::layers::RelPath;
use stitching_core::{Error, Project};
use tempfile::TempDir;

/// Files by their paths.
pub type Tree = BTreeMap<String, Vec<u8>>;

/// A rename that edits two files of the mod, moves one, and brings one up into a new folder.
pub const BUNDLE: &str = r#"=== schema.toml
[table.reaches]
files = "reaches.txt"
format = { kind = "delimited" }
key = "Reach"
[table.reaches.fields]
Layout = { file = "layouts/{}.json", follows = "{key}" }
[table.layouts]
files = "layouts/*.json"
format = { kind = "json", records = "$" }
key = "{stem}"
[table.layouts.fields]
reach = { ref = "reaches" }
[table.tolls]
files = "far/away/tolls.txt"
format = { kind = "delimited" }
key = "Toll"
[table.tolls.fields]
Reach = { ref = "reaches" }
[table.locks]
files = "locks.txt"
format = { kind = "delimited" }
key = "Lock"
[table.locks.fields]
Reach = { ref = "reaches" }
=== mod/reaches.txt
Reach	Layout
mill	mill
=== mod/locks.txt
Lock	Reach
a	mill
=== mod/layouts/mill.json
{ "reach": "mill" }
=== game/far/away/tolls.txt
Toll	Reach
t	mill
"#;

/// Records that are switched off: as a note, and by being taken out and kept aside.
const SWITCHED: &str = r#"=== schema.toml
[table.goods]
files = "goods.ini"
format = { kind = "ini" }
key = "{section}"
[table.crews]
files = "crews.json"
format = { kind = "json", records = "$[*]" }
key = "id"
[table.plans]
files = "plans/*.json"
format = { kind = "json", records = "$" }
key = "{stem}"
=== mod/plans/north.json
{ "deep": 3 }
=== mod/goods.ini
[coal]
price = 3
[peat]
price = 2
=== mod/crews.json
[
  { "id": "tow" },
  { "id": "lock" },
  { "id": "tow" }
]
"#;

/// A move of a file without an edit, and an edit within an archive.
const ARCHIVED: &str = r#"=== schema.toml
[table.signs]
files = "packs/*.zip/*.ini"
format = { kind = "ini" }
key = "{section}"
[table.signs.fields]
good = { ref = "goods" }
[table.goods]
files = "goods.txt"
format = { kind = "delimited" }
key = "Good"
[table.goods.fields]
Plan = { file = "plans/{}.txt", follows = "{key}" }
=== mod/goods.txt
Good	Plan
coal	coal
=== mod/plans/coal.txt
a plan of the hold
=== mod/packs/signs.zip/north.ini
[quay]
good = coal
=== mod/packs/signs.zip/south.ini
[weir]
good = peat
"#;

/// Records with a folder and a text each.
const SITES: &str = r#"=== schema.toml
[table.sites]
files = "sites.txt"
format = { kind = "delimited" }
key = "Site"
[table.words]
files = "words.txt"
format = { kind = "lines", line = '{key} = {text}' }
key = "key"
[[companion]]
table = "sites"
file = "plans/{key}.txt"
folder = "sites/{key}/"
=== mod/sites.txt
Site
mill
weir
=== mod/words.txt
mill = a mill
=== mod/plans/mill.txt
a plan
=== mod/sites/mill/wheel.txt
a wheel
=== mod/sites/mill/parts/shaft.txt
a shaft
"#;

/// A change and what comes before it.
#[derive(Debug, Clone, Copy)]
pub struct Scenario {
    pub name: &'static str,
    bundle: &'static str,
    /// What was done before.
    before: &'static [Act],
    /// What is done while something goes wrong.
    pub act: Act,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Act {
    Rename(&'static str, &'static str),
    Off(&'static str),
    On(&'static str),
    /// A file is made in a new folder, one copied, one removed; an empty folder is made, another removed.
    Files,
    /// A record is copied with its files and its folder.
    Copy(&'static str, &'static str),
    /// A record is removed with all that belongs to it.
    Remove(&'static str),
    Undo,
    Redo,
}

pub const SCENARIOS: [Scenario; 17] = [
    Scenario { name: "rename", bundle: BUNDLE, before: &[], act: Act::Rename("reaches:mill", "weir") },
    Scenario {
        name: "undo of a rename",
        bundle: BUNDLE,
        before: &[Act::Rename("reaches:mill", "weir")],
        act: Act::Undo,
    },
    Scenario {
        name: "redo of a rename",
        bundle: BUNDLE,
        before: &[Act::Rename("reaches:mill", "weir"), Act::Undo],
        act: Act::Redo,
    },
    Scenario {
        name: "another change after an undo",
        bundle: BUNDLE,
        before: &[Act::Rename("reaches:mill", "a"), Act::Rename("reaches:a", "b"), Act::Undo, Act::Undo],
        act: Act::Rename("reaches:mill", "weir"),
    },
    Scenario { name: "off as a note", bundle: SWITCHED, before: &[], act: Act::Off("goods:coal") },
    Scenario { name: "off and kept aside", bundle: SWITCHED, before: &[], act: Act::Off("crews:tow") },
    Scenario {
        name: "on of what was kept aside",
        bundle: SWITCHED,
        before: &[Act::Off("crews:tow")],
        act: Act::On("crews:tow"),
    },
    Scenario {
        name: "a move, and an archive",
        bundle: ARCHIVED,
        before: &[],
        act: Act::Rename("goods:coal", "slate"),
    },
    Scenario { name: "files and folders", bundle: BUNDLE, before: &[], act: Act::Files },
    Scenario { name: "undo of files and folders", bundle: BUNDLE, before: &[Act::Files], act: Act::Undo },
    Scenario {
        name: "undo of a move, and an archive",
        bundle: ARCHIVED,
        before: &[Act::Rename("goods:coal", "slate")],
        act: Act::Undo,
    },
    Scenario { name: "off of a whole file", bundle: SWITCHED, before: &[], act: Act::Off("plans:north") },
    Scenario {
        name: "on of a whole file",
        bundle: SWITCHED,
        before: &[Act::Off("plans:north")],
        act: Act::On("plans:north"),
    },
    Scenario { name: "a copy", bundle: SITES, before: &[], act: Act::Copy("sites:mill", "dam") },
    Scenario { name: "a removal", bundle: SITES, before: &[], act: Act::Remove("sites:mill") },
    Scenario {
        name: "undo of a copy",
        bundle: SITES,
        before: &[Act::Copy("sites:mill", "dam")],
        act: Act::Undo,
    },
    Scenario {
        name: "undo of a removal",
        bundle: SITES,
        before: &[Act::Remove("sites:mill")],
        act: Act::Undo,
    },
];

impl Act {
    /// Does it, as far as `hook` lets it; what happens is noted in `notices`.
    pub fn run(self, folder: &Path, hook: &CallHook<'_>, notices: &Mutex<Vec<String>>) -> Result<(), Error> {
        // The change is built before anything goes wrong.
        let built = match self {
            Act::Undo | Act::Redo => None,
            _ => Some(self.build(folder)),
        };
        self.run_built(folder, built.as_ref(), hook, notices)
    }

    /// The change, on the project as it is now.
    pub fn build(self, folder: &Path) -> (Project, Change) {
        let project = Project::open(folder).expect("the project opens");
        let change = match self {
            Act::Rename(address, new) => rename(&project, address, new),
            Act::Off(address) => switch_off(&project, address),
            Act::On(address) => switch_on(&project, address),
            Act::Files => files_and_folders(&project),
            Act::Copy(address, new) => copy(
                &project,
                &CopyRequest { address: address.to_owned(), new: new.to_owned(), ..CopyRequest::default() },
            ),
            Act::Remove(address) => remove(
                &project,
                &RemoveRequest { addresses: vec![address.to_owned()], ..RemoveRequest::default() },
            ),
            Act::Undo | Act::Redo => panic!("these are not built"),
        };
        (project, change.expect("a change"))
    }

    pub fn run_built(
        self,
        folder: &Path,
        built: Option<&(Project, Change)>,
        hook: &CallHook<'_>,
        notices: &Mutex<Vec<String>>,
    ) -> Result<(), Error> {
        let note = |notice: &stitching_core::journal::Notice| {
            notices.lock().expect("one at a time").push(format!("{notice:?}"));
        };
        // In one thread, so that the order of the calls is the same each time.
        let one = rayon::ThreadPoolBuilder::new().num_threads(1).build().expect("a thread");
        one.install(|| {
            let project = Project::open(folder).expect("the project opens");
            let journal = Journal::new(folder, project.stack.mod_root().expect("a mod"), &note)
                .with_key(support::key())
                .with_patience(std::time::Duration::ZERO)
                .with_hook(hook);
            match (self, built) {
                (Act::Undo, _) => journal.undo(ChangedSince::Refuse).map(|_| ()),
                (Act::Redo, _) => journal.redo(ChangedSince::Refuse).map(|_| ()),
                (_, Some((project, change))) => journal.commit(&project.stack, change).map(|_| ()),
                (_, None) => panic!("it was not built"),
            }
        })
    }
}

/// A change of files and folders as wholes.
fn files_and_folders(project: &Project) -> Result<Change, Error> {
    let path = |path: &str| RelPath::parse(path).expect("a path");
    let file = |own: &str| project.stack.find(project.stack.top(), &path(own)).expect("a file");
    let mut builder = Builder::new(project, "make and remove files");
    builder.create(&path("plans/new/dock.txt"), "a dock\n", None)?;
    builder.copy_to(file("locks.txt"), &path("plans/locks.txt"))?;
    builder.remove(file("layouts/mill.json"))?;
    builder.remove_folder(path("layouts"));
    builder.make_folder(path("empty/inside"));
    builder.finish()
}

impl Scenario {
    /// The project before the change.
    pub fn prepare(&self) -> TempDir {
        let folder = support::write(self.bundle);
        for act in self.before {
            act.run(folder.path(), NO_HOOK, &Mutex::default()).expect("what comes before");
        }
        folder
    }

    /// The trees before and after, and the calls that lie between.
    pub fn whole(&self) -> (Tree, Tree, Vec<Call>) {
        let folder = self.prepare();
        let before = support::tree(folder.path());
        let calls = Mutex::new(Vec::new());
        let hook = |call: &Call| {
            let below = call.path.strip_prefix(folder.path()).expect("nothing is touched outside").to_owned();
            calls.lock().expect("one at a time").push(Call { path: below, ..call.clone() });
            Ok(())
        };
        self.act.run(folder.path(), &hook, &Mutex::default()).expect("it is done");
        let after = support::tree(folder.path());
        assert_ne!(before, after, "{}", self.name);
        assert_eq!(leftovers(folder.path()), Vec::<String>::new(), "{}", self.name);
        (before, after, calls.into_inner().expect("the calls"))
    }
}

/// Puts right what was left unfinished, as each command does first.
pub fn recover(folder: &Path, hook: &CallHook<'_>) -> Result<Recovered, Error> {
    support::journal(folder).with_hook(hook).recover()
}

/// The temporary files that are left anywhere, those of the tool's own folder among them.
pub fn leftovers(folder: &Path) -> Vec<String> {
    let mut out = Vec::new();
    let mut open = vec![folder.to_owned()];
    while let Some(next) = open.pop() {
        for entry in fs::read_dir(next).expect("a folder").flatten() {
            let name = entry.file_name().to_string_lossy().into_owned();
            if name.starts_with(".stitching-")
                || name.starts_with("pending")
                || name.starts_with("cleaning-")
                || name.ends_with(".new")
            {
                out.push(entry.path().display().to_string());
            }
            if entry.file_type().expect("a type").is_dir() {
                open.push(entry.path());
            }
        }
    }
    out
}
