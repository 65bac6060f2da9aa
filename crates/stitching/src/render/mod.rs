//! From what the core gives to what people and programs read.

pub mod explanation;
pub mod github;
pub mod grouped;
pub mod human;
pub mod json;
pub mod junit;
pub mod sarif;
pub mod table;
