//! Recipes: named changes with parameters, `[[recipe]]`.
//!
//! Texts in a recipe may have the names of its parameters in braces, `{key}`, or with the case of the letters: `{key|upper}`.
//! Other names in braces stay as they are.

use super::TableId;
use crate::problem::Place;

/// A named change with parameters.
#[derive(Debug, Clone)]
pub struct Recipe {
    /// Its name.
    pub name: String,
    /// What it does, for people.
    pub about: Option<String>,
    /// What is asked for.
    pub parameters: Vec<Parameter>,
    /// What is done, in order.
    pub steps: Vec<RecipeStep>,
}

/// A parameter of a recipe.
#[derive(Debug, Clone)]
pub struct Parameter {
    /// Its name.
    pub name: String,
    /// What it is, for people.
    pub about: Option<String>,
    /// What its values are.
    pub kind: ParameterKind,
    /// What it is if nothing is given; may name the parameters before it.
    pub default: Option<String>,
}

/// What the values of a parameter are.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ParameterKind {
    /// Any text.
    Text,
    /// A number; whole, if it says so.
    Number {
        /// Whether it must be whole.
        whole: bool,
    },
    /// The key of a record of a table.
    Record(TableId),
    /// One of these.
    Choice(Vec<String>),
}

/// A step of a recipe.
#[derive(Debug, Clone)]
pub struct RecipeStep {
    /// What it does.
    pub action: RecipeAction,
    /// The condition under which it is done, as an expression.
    pub when: Option<String>,
    /// The record that the condition, or the value that is worked out, is about: its address.
    pub record: Option<String>,
    /// What it is repeated for.
    pub each: Option<Each>,
    /// Where the schema describes it.
    pub place: Place,
}

/// What a step is repeated for: its name takes each value in turn.
#[derive(Debug, Clone)]
pub struct Each {
    /// The name.
    pub name: String,
    /// The values.
    pub values: EachValues,
}

/// The values that a step is repeated for.
#[derive(Debug, Clone)]
pub enum EachValues {
    /// These; `1..4` stands for the numbers from 1 to 4.
    Listed(Vec<String>),
    /// The keys of the records of this table, of those that meet the condition if there is one.
    Records(String, Option<String>),
}

/// What a step of a recipe does. The texts are those of the editing commands.
#[derive(Debug, Clone)]
pub enum RecipeAction {
    /// Gives records other values.
    Set {
        /// The addresses of the records; with a condition, or for all, one table.
        records: Vec<String>,
        /// What becomes of their fields.
        values: Vec<String>,
        /// The condition that they meet.
        condition: Option<String>,
        /// Whether all of the table are meant.
        all: bool,
    },
    /// Adds records.
    Add {
        /// The table.
        table: String,
        /// Their keys.
        keys: Vec<String>,
        /// What they hold.
        values: Vec<String>,
        /// The key of the one that they are like.
        like: Option<String>,
        /// The key of the one that they go behind.
        after: Option<String>,
        /// How they are called in the main language.
        name: Option<String>,
    },
    /// Copies a record with all that belongs to it.
    Copy {
        /// Its address.
        address: String,
        /// The key of the copy.
        new: String,
        /// What the copy holds.
        values: Vec<String>,
        /// How it is called in the main language.
        name: Option<String>,
        /// Which lists get the copy: "all", "none", or those of these fields.
        join: Vec<String>,
        /// The tables of which nothing comes along.
        without: Vec<String>,
        /// The layer, project, folder or archive that the original is in, if elsewhere.
        from: Option<String>,
        /// Whether records that it refers to come along where the project lacks them.
        with_needed: bool,
        /// The key of the record that it goes behind.
        after: Option<String>,
    },
    /// Removes records with all that belongs to them.
    Remove {
        /// Their addresses.
        records: Vec<String>,
        /// Whether what refers to them loses the reference.
        detach: bool,
        /// Whether the records that refer to them go too.
        cascade: bool,
        /// Whether what only they needed goes too.
        with_unused: bool,
    },
    /// Gives a record another key.
    Rename {
        /// Its address.
        address: String,
        /// The new key.
        new: String,
    },
    /// Closes the gaps in the numbers of a field, or opens a place.
    Renumber {
        /// The field, with its table.
        field: String,
        /// The group that is meant, where the field is the last part of a key.
        group: Option<String>,
        /// The number that is to be free.
        open: Option<String>,
    },
    /// Works out a value, which later steps know by a name.
    Let {
        /// The name.
        name: String,
        /// The expression.
        value: String,
    },
}
