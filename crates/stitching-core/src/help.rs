//! What to do about a fault or a problem: a sentence, and perhaps a step that the program words as a command.

use serde::{Deserialize, Serialize};

/// A step that the caller of this library can offer; which command or option takes it is the caller's matter.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub enum NextStep {
    /// Name the project, or write one to try.
    NameProject,
    /// List all tables.
    ListTables,
    /// See what the columns of this table hold and where they point.
    ListFields(String),
    /// See what the record has.
    ShowRecord,
    /// Search all files for this text.
    SearchEverything(String),
    /// See all places of a problem.
    Check,
    /// See the fixes that are not sure to be right, or make them all the same.
    LookAtFixes,
    /// Say which of two sides counts where they differ.
    ChooseSide,
    /// Put right what follows from the rest.
    RefreshComputed,
    /// List the codes of problems.
    ListCodes,
    /// Give a record another key.
    RenameRecord,
    /// Say what becomes of what refers to a record: it loses the reference, goes too, or stays as it is.
    DetachOrCascade,
    /// Say which records of a table are meant: by a condition, or all.
    ChooseRecords,
    /// See what the change does, or make it although it brings errors.
    PreviewOrAllowErrors,
    /// Take along what a record refers to and the project lacks, or leave references to it that lead nowhere.
    BringLacking,
    /// List what is switched off.
    ListSwitchedOff,
    /// Switch on what this address names.
    SwitchOn(String),
    /// Say what kind of free value is looked for.
    SayKindOfFree,
    /// Say which other block of numbers a free one may come from.
    SayBlock,
    /// Name a value of this table that a free one is to be like.
    NameSimilar(String),
}

/// What to do: words, and perhaps a step. Both may be missing.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Help {
    /// One sentence without a full stop, names in backticks; names no command or option of a program.
    pub text: String,
    /// A step to offer behind the text.
    pub step: Option<NextStep>,
}

impl Help {
    /// This help with `step` behind its text.
    pub fn then(mut self, step: NextStep) -> Help {
        self.step = Some(step);
        self
    }

    /// Whether there is nothing to say.
    pub fn is_empty(&self) -> bool {
        self.text.is_empty() && self.step.is_none()
    }
}

impl From<String> for Help {
    fn from(text: String) -> Help {
        Help { text, step: None }
    }
}

impl From<&str> for Help {
    fn from(text: &str) -> Help {
        text.to_owned().into()
    }
}

impl From<NextStep> for Help {
    fn from(step: NextStep) -> Help {
        Help::default().then(step)
    }
}
