//! The shape of nested data, whatever it says: which names stand inside which, and how often.
//!
//! Values of one name at one place are taken together, so that a file of a thousand like objects has the
//! outline of one. It is what records can be recognised by in files that nobody has described.

use std::collections::HashMap;

/// The name under which the items of a list stand.
pub const ITEM: &str = "[*]";

/// The shape of one file, or of several like ones. Node 0 is the file itself.
#[derive(Debug)]
pub struct Outline {
    /// All nodes; a node comes after the one that it stands in.
    pub nodes: Vec<OutlineNode>,
    names: HashMap<(usize, String), usize>,
}

/// All that stands under one name at one place.
#[derive(Debug, Default, Clone)]
pub struct OutlineNode {
    /// Its name: of a member, an element (attributes as `@name`), a block; [`ITEM`] for items of a list.
    pub name: String,
    /// The nodes inside, in the order in which they were met first.
    pub children: Vec<usize>,
    /// How often it was met.
    pub met: u32,
    /// The most that stand inside one parent.
    pub most: u32,
    /// How often it was a plain value.
    pub values: u32,
    /// How often that was a number.
    pub numbers: u32,
    /// Of values of several words, for each place how often there was a word and how often that was a number.
    pub words: Vec<WordCount>,
    last_parent: Option<usize>,
    run: u32,
}

/// The words at one place of the values of a node.
#[derive(Debug, Default, Clone, Copy, PartialEq, Eq)]
pub struct WordCount {
    /// How many there were.
    pub met: u32,
    /// How many of them were numbers.
    pub numbers: u32,
}

impl Default for Outline {
    fn default() -> Outline {
        Outline { nodes: vec![OutlineNode::default()], names: HashMap::new() }
    }
}

impl Outline {
    /// Takes note of something called `name` inside node `parent`; `within` tells the things that `parent`
    /// stands for apart. Gives its node.
    pub fn add(&mut self, parent: usize, within: usize, name: &str) -> usize {
        let found = self.names.get(&(parent, name.to_owned())).copied();
        let id = found.unwrap_or_else(|| {
            let id = self.nodes.len();
            self.nodes.push(OutlineNode { name: name.to_owned(), ..OutlineNode::default() });
            self.nodes[parent].children.push(id);
            self.names.insert((parent, name.to_owned()), id);
            id
        });
        let node = &mut self.nodes[id];
        node.met += 1;
        node.run = if node.last_parent == Some(within) { node.run + 1 } else { 1 };
        node.last_parent = Some(within);
        node.most = node.most.max(node.run);
        id
    }

    /// As [`Outline::add`] for a plain value.
    pub fn add_value(&mut self, parent: usize, within: usize, name: &str, value: &str) -> usize {
        let id = self.add(parent, within, name);
        self.nodes[id].values += 1;
        self.nodes[id].numbers += u32::from(crate::text::number(value).is_some());
        id
    }

    /// As [`Outline::add_value`] for a value of several words.
    pub fn add_words(&mut self, parent: usize, within: usize, name: &str, words: &[&str]) -> usize {
        /// Longer ones are lists.
        const MOST: usize = 8;
        let id = self.add_value(parent, within, name, words.first().copied().unwrap_or_default());
        let counts = &mut self.nodes[id].words;
        for (place, word) in words.iter().enumerate().take(MOST) {
            if counts.len() == place {
                counts.push(WordCount::default());
            }
            counts[place].met += 1;
            counts[place].numbers += u32::from(crate::text::number(word).is_some());
        }
        id
    }

    /// Begins another file: what is in it does not count as beside what was in the one before.
    pub fn next_file(&mut self) {
        self.nodes[0].met += 1;
        for node in &mut self.nodes {
            node.last_parent = None;
        }
    }
}
