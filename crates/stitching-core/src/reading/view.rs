//! The data as a command sees it: the layers, what the schema says of them, and how far up they are looked at.

use crate::layers::{LayerId, Stack};
use crate::schema::Schema;

/// The layers up to one of them, with their schema.
#[derive(Debug, Clone, Copy)]
pub struct View<'v> {
    /// All layers.
    pub stack: &'v Stack,
    /// What the files hold.
    pub schema: &'v Schema,
    /// The topmost layer that counts.
    pub through: LayerId,
}

impl<'v> View<'v> {
    /// All layers with their schema.
    pub fn top(stack: &'v Stack, schema: &'v Schema) -> View<'v> {
        View { stack, schema, through: stack.top() }
    }

    /// The same data as if the layers ended at `through`.
    pub fn until(self, through: LayerId) -> View<'v> {
        View { through, ..self }
    }
}
