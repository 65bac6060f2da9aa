//! A block or element where it does not seem to belong.

use super::{Check, Run};
use crate::Code;
use crate::problem::Severity;

pub(super) static CHECK: Check = Check {
    code: Code::MISPLACED,
    severity: Severity::Warning,
    about: "a block or element where it does not seem to belong",
    docs: DOCS,
    run: Run::Reading,
};

const DOCS: &str = "\
What it finds
    A block or element that is named as the records of a table are, at a place where no table reads
    it; and one that stands inside another of its kind without being further in. Both count
    only where they are rare, since people indent as they please and use a name at many places; what
    is no further in inside one of its own name counts always.

Why it matters
    A closing brace or end tag that is missing in one place and one too many in another leave a file
    that can be read, in which everything between is part of something else.

When to ignore it
    When the game has such entries there: describe them, in a table of their own.

Example, wrong
    crew tow {
        wage = 4
    crew pole {
        wage = 6
    }
    }

Example, right
    crew tow {
        wage = 4
    }
    crew pole {
        wage = 6
    }
";
