//! Starting a project: what `stitching.toml` and a first schema say, from the folders alone.

use super::{Band, Learned, Proposal, Topic, learn, tried, written};
use crate::checks::FaultCounts;
use crate::settings::toml_text;
use crate::{Error, Project};
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

/// A project that could be.
#[derive(Debug)]
pub struct Start {
    /// The content of `stitching.toml`.
    pub project: String,
    /// The name of the schema file, relative to the folder.
    pub schema_name: String,
    /// The content of the schema.
    pub schema: String,
    /// The tables that the schema has.
    pub tables: BTreeSet<String>,
    /// What was learned.
    pub learned: Learned,
}

/// Studies the mod in `folder` over the layers `bases`, lowest first. Nothing is written. `usual` is the code of the language
/// that the person speaks, such as `de`, if it is known.
///
/// # Errors
/// When a folder is not there, or two of them lie one inside the other.
pub fn start(folder: &Path, bases: &[PathBuf], usual: Option<&str>) -> Result<Start, Error> {
    let folder = std::path::absolute(folder).map_err(|source| Error::io("resolve", folder, source))?;
    let own_name = folder.file_name().map_or("mod".to_owned(), |name| name.to_string_lossy().into_owned());
    let game = bases.first().map_or(own_name.clone(), |base| name_of(base));
    let schema_name = format!("{}.schema.toml", super::names::plain_name(&game));
    let project =
        |languages: &[(String, u64)]| project_text(&folder, &own_name, bases, &schema_name, languages, usual);
    let bare = [(schema_name.clone(), String::new())];
    let opened = Project::described(&folder, &project(&[]), &bare)?;
    let mut learned = learn(opened.view());
    // A file that is taken for one record may be anything; it is left to be asked.
    let doubtful = |own: &&Proposal| own.topic == Topic::Table && own.band == Band::Ask && own.fit <= 1;
    let left: BTreeSet<String> =
        learned.proposals.iter().filter(doubtful).map(|own| own.table.clone()).collect();
    let chosen = |_: usize, own: &Proposal| {
        let sure = own.band == Band::Accept || (own.topic == Topic::Table && own.band == Band::Ask);
        sure && !left.contains(&own.table)
    };
    let head = format!(
        "# What Stitching knows of the files of {game}. A first draft, learned from the data: read it, correct it,\n\
         # and have more proposed once it is right.\n"
    );
    let project = project(&learned.languages);
    let described = |taken: &[&Proposal]| {
        Project::described(&folder, &project, &[(schema_name.clone(), written(&head, taken)?)])
    };
    let found = tried(&mut learned.proposals, chosen, &BTreeSet::new(), &described, &FaultCounts::default())?;
    let taken: Vec<&Proposal> = found.taken.into_iter().map(|at| &learned.proposals[at]).collect();
    let schema = written(&head, &taken)?;
    let tables = taken.iter().map(|own| own.table.clone()).collect();
    Ok(Start { project, schema_name, schema, tables, learned })
}

fn name_of(path: &Path) -> String {
    let real = path.canonicalize().unwrap_or_else(|_| path.to_owned());
    real.file_stem().map_or("game".to_owned(), |name| name.to_string_lossy().into_owned())
}

fn project_text(
    folder: &Path,
    name: &str,
    bases: &[PathBuf],
    schema: &str,
    languages: &[(String, u64)],
    usual: Option<&str>,
) -> String {
    let mut out = format!(
        "# A project of Stitching. The layers lie one over the other, the lowest first; only the last is ever written.\n\
         [project]\nname = {}\nschema = [{}]\n",
        toml_text(name),
        toml_text(schema)
    );
    let mut used = BTreeSet::from(["mod".to_owned()]);
    for base in bases {
        let mut layer = name_of(base);
        while !used.insert(layer.clone()) {
            layer.push_str("_2");
        }
        out += &format!(
            "\n[[layer]]\nname = {}\npath = {}\n",
            toml_text(&layer),
            toml_text(&relative(folder, base))
        );
    }
    out += "\n[[layer]]\nname = \"mod\"\npath = \".\"\n";
    if !languages.is_empty() {
        let main = main_language(languages, usual);
        let others: Vec<String> =
            languages.iter().filter(|(code, _)| code != main).map(|(code, _)| toml_text(code)).collect();
        out += &format!("\n[languages]\nmain = {}\nothers = [{}]\n", toml_text(main), others.join(", "));
    }
    out
}

/// The language that the others are most likely made from: of the most complete ones (`languages` gives the bytes of each) the
/// `usual` one, or else English, or the first.
fn main_language<'l>(languages: &'l [(String, u64)], usual: Option<&str>) -> &'l str {
    let most = languages.iter().map(|(_, bytes)| *bytes).max().unwrap_or_default();
    let complete =
        || languages.iter().filter(|(_, bytes)| bytes * 10 >= most * 8).map(|(code, _)| code.as_str());
    let called = |wanted: &str| complete().find(|code| *code == wanted);
    usual.and_then(called).or_else(|| called("en")).or_else(|| complete().next()).unwrap_or("en")
}

/// `path` as seen from `folder`, with `/`, if both have a folder in common; else in full.
fn relative(folder: &Path, path: &Path) -> String {
    let (Ok(folder), Ok(real)) = (folder.canonicalize(), path.canonicalize()) else {
        return path.to_string_lossy().replace('\\', "/");
    };
    let shared = folder.components().zip(real.components()).take_while(|(a, b)| a == b).count();
    if shared < 2 {
        return real.to_string_lossy().replace('\\', "/");
    }
    let up = folder.components().skip(shared).map(|_| "..".to_owned());
    let down = real.components().skip(shared).map(|part| part.as_os_str().to_string_lossy().into_owned());
    up.chain(down).collect::<Vec<_>>().join("/")
}

#[cfg(test)]
mod tests {
    use super::main_language;
    use rstest::rstest;

    #[rstest]
    #[case::the_most_complete(&[("de", 100), ("fr", 900)], None, "fr")]
    #[case::english_of_several(&[("de", 900), ("en", 850), ("fr", 1000)], None, "en")]
    #[case::not_if_it_lacks_much(&[("de", 1000), ("en", 500)], None, "de")]
    #[case::the_usual_one(&[("de", 900), ("en", 950)], Some("de"), "de")]
    #[case::the_usual_one_is_not_there(&[("de", 900), ("fr", 950)], Some("pl"), "de")]
    #[case::nothing(&[], Some("pl"), "en")]
    fn main_languages(#[case] languages: &[(&str, u64)], #[case] usual: Option<&str>, #[case] main: &str) {
        let languages: Vec<(String, u64)> =
            languages.iter().map(|(code, bytes)| ((*code).to_owned(), *bytes)).collect();
        assert_eq!(main_language(&languages, usual), main);
    }
}
