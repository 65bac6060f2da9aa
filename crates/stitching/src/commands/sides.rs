//! The states that `diff` and `compare` put beside each other, as they are named on the command line.

use std::cell::OnceCell;
use std::path::Path;
use stitching_core::reading::View;
use stitching_core::{Error, Project};

/// A state, and the project that it is a state of, for telling places.
pub struct Named<'p> {
    pub side: View<'p>,
    pub project: &'p Project,
    pub name: String,
}

/// What `name` stands for: a layer of the project, as if the layers ended with it; or another project, folder
/// or archive, kept in `other`.
pub fn named<'p>(project: &'p Project, name: &str, other: &'p OnceCell<Project>) -> Result<Named<'p>, Error> {
    if let Ok(layer) = project.layer(name) {
        return Ok(Named { side: project.view().until(layer), project, name: name.to_owned() });
    }
    let beside = project.beside(Path::new(name))?;
    let project = other.get_or_init(|| beside);
    Ok(Named { side: project.view(), project, name: name.to_owned() })
}
