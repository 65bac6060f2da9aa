//! The files that describe a project, as they are and as they would be.

use crate::ui::Ui;
use std::path::PathBuf;
use stitching_core::checks::AcceptedProblems;
use stitching_core::journal::replace_description;
use stitching_core::learn::{DescriptionFile, Proposal, written};
use stitching_core::project::PROJECT_FILE;
use stitching_core::{Error, Project};

/// A schema file.
pub struct SchemaFile<'p> {
    /// Its name, as the project has it.
    pub name: &'p str,
    /// Where it is.
    pub path: PathBuf,
    /// What it says.
    pub text: String,
}

impl<'p> SchemaFile<'p> {
    fn read(project: &Project, name: &'p str) -> Result<SchemaFile<'p>, Error> {
        let path = project.folder.join(name);
        let text = std::fs::read_to_string(&path).map_err(|source| Error::io("read", &path, source))?;
        Ok(SchemaFile { name, path, text })
    }
}

/// The schema files of a project.
///
/// # Errors
/// When one cannot be read.
pub fn schema_files(project: &Project) -> Result<Vec<SchemaFile<'_>>, Error> {
    project.schema_files.iter().map(|name| SchemaFile::read(project, name)).collect()
}

/// All files that describe a project: the project file, the schema files, and the problems that one lives with.
///
/// # Errors
/// When one cannot be read.
pub fn description_files(project: &Project) -> Result<Vec<DescriptionFile>, Error> {
    let accepted = Some(AcceptedProblems::FILE).filter(|name| project.folder.join(name).is_file());
    let names = project.schema_files.iter().map(String::as_str).chain([PROJECT_FILE]).chain(accepted);
    names.map(|name| Ok((name.to_owned(), SchemaFile::read(project, name)?.text))).collect()
}

/// The schema files that change, each with what it is to say.
pub struct ChangedSchema<'p>(Vec<(SchemaFile<'p>, String)>);

impl<'p> ChangedSchema<'p> {
    /// With `taken` in the file that describes the table, new tables in the last one.
    ///
    /// # Errors
    /// When a file cannot be read or is no TOML.
    pub fn with_proposals(project: &'p Project, taken: &[&Proposal]) -> Result<ChangedSchema<'p>, Error> {
        let files = schema_files(project)?;
        let last = files.len().saturating_sub(1);
        let home = |own: &Proposal| -> usize {
            let described = project.schema.table(&own.table).map(|id| &project.schema.tables[id].place.path);
            described.and_then(|path| files.iter().position(|file| file.name == path)).unwrap_or(last)
        };
        let mut by_file: Vec<Vec<&Proposal>> = vec![Vec::new(); files.len()];
        for own in taken {
            by_file[home(own)].push(own);
        }
        let mut changed = Vec::new();
        for (file, own) in files.into_iter().zip(by_file).filter(|(_, own)| !own.is_empty()) {
            let after = written(&file.text, &own)?;
            changed.push((file, after));
        }
        Ok(ChangedSchema(changed))
    }

    /// With one file that says something else; nothing is changed if it is the same.
    pub fn of_file(file: SchemaFile<'p>, after: String) -> ChangedSchema<'p> {
        ChangedSchema(if after == file.text { Vec::new() } else { vec![(file, after)] })
    }

    /// With what description files are to say; `before` is what they say now.
    pub fn of_files(
        project: &'p Project,
        before: &[DescriptionFile],
        after: Vec<DescriptionFile>,
    ) -> ChangedSchema<'p> {
        let own = |name: &str| {
            let names = project.schema_files.iter().map(String::as_str);
            names.chain([PROJECT_FILE, AcceptedProblems::FILE]).find(|own| *own == name)
        };
        let changed = before.iter().zip(after).filter(|((_, before), (_, after))| before != after);
        let changed = changed.filter_map(|((_, before), (name, after))| {
            let name = own(&name)?;
            Some((SchemaFile { name, path: project.folder.join(name), text: before.clone() }, after))
        });
        ChangedSchema(changed.collect())
    }

    /// The names of the files.
    pub fn names(&self) -> Vec<&'p str> {
        self.0.iter().map(|(file, _)| file.name).collect()
    }

    /// The project as it would be.
    ///
    /// # Errors
    /// When it could not be opened.
    pub fn described(&self, project: &Project) -> Result<Project, Error> {
        let path = project.folder.join(PROJECT_FILE);
        let changed = self.0.iter().find(|(file, _)| file.name == PROJECT_FILE);
        let text = match changed {
            Some((_, after)) => after.clone(),
            None => std::fs::read_to_string(&path).map_err(|source| Error::io("read", &path, source))?,
        };
        let schemas: Vec<(String, String)> =
            self.0.iter().map(|(file, after)| (file.name.to_owned(), after.clone())).collect();
        Project::described(&project.folder, &text, &schemas)
    }

    /// Writes the files.
    ///
    /// # Errors
    /// When one lies in a base layer, changed meanwhile, or cannot be written.
    pub fn write(&self, project: &Project, ui: &Ui) -> Result<(), Error> {
        for (file, after) in &self.0 {
            replace_description(&project.stack, &file.path, &file.text, after)?;
            ui.changed();
        }
        Ok(())
    }
}
