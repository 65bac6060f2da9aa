//! From what the core gives to what people and programs read.

pub mod github;
pub mod human;
pub mod json;
pub mod sarif;
pub mod table;
