//! The work of Stitching, without a terminal.
//!
//! Data flows one way: `layers -> text -> formats -> schema -> tables -> links -> rows -> checks`, and from
//! the links to `changes -> journal` and to `views`. A module uses those to its left, never those to its right.
//! Nothing here prints, reads arguments or ends the process; only [`journal`] writes files.
#![deny(missing_docs)]

pub mod changes;
pub mod checks;
mod code;
pub mod error;
pub mod expressions;
pub mod fields;
pub mod formats;
pub mod help;
pub mod journal;
pub mod layers;
pub mod learn;
pub mod links;
pub mod problem;
pub mod project;
pub mod reading;
pub mod rows;
pub mod rules;
pub mod schema;
pub mod settings;
pub mod tables;
pub mod text;
pub mod translation;
pub mod views;

pub use code::Code;
pub use error::{Error, ErrorKind, Refusal};
pub use problem::{Fix, Place, Problem, Related, Severity};
pub use project::Project;
