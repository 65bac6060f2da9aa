//! What a text was parsed into, kept with it: several tables may lie in one file, and each asks for its columns, its records and
//! its names.

use std::any::Any;
use std::fmt;
use std::sync::{Arc, Mutex, PoisonError};

/// The trees that a text was parsed into, each by what it was parsed as.
#[derive(Default)]
pub(super) struct Parsed {
    trees: Mutex<Vec<(String, Arc<dyn Any + Send + Sync>)>>,
}

impl Parsed {
    /// The tree of the text as `settings` have it parsed; `parse` is called if it was not before.
    pub fn tree<T: Any + Send + Sync>(&self, settings: &str, parse: impl FnOnce() -> T) -> Arc<T> {
        let known = || {
            let trees = self.trees.lock().unwrap_or_else(PoisonError::into_inner);
            let mut of_settings = trees.iter().filter(|(own, _)| own == settings);
            of_settings.find_map(|(_, tree)| Arc::clone(tree).downcast::<T>().ok())
        };
        if let Some(tree) = known() {
            return tree;
        }
        let tree = Arc::new(parse());
        let kept: Arc<dyn Any + Send + Sync> = Arc::clone(&tree) as _;
        self.trees.lock().unwrap_or_else(PoisonError::into_inner).push((settings.to_owned(), kept));
        tree
    }
}

impl fmt::Debug for Parsed {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str("Parsed")
    }
}

#[cfg(test)]
mod tests {
    use super::Parsed;

    #[test]
    fn a_text_is_parsed_once_for_the_same_settings() {
        let (parsed, mut times) = (Parsed::default(), 0);
        for (settings, expected) in [("a", 1), ("a", 1), ("b", 2), ("a", 1)] {
            let tree = parsed.tree(settings, || {
                times += 1;
                times
            });
            assert_eq!(*tree, expected);
        }
        // Another kind of tree is another one.
        assert_eq!(parsed.tree("a", || "other").as_ref(), &"other");
    }
}
