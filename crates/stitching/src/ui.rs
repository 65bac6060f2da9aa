//! Where output goes: results to standard output, messages to standard error.

use crate::args::{Color, Format, Global};
use anstyle::{AnsiColor, Style};
use clap::ValueEnum;
use std::io::{IsTerminal, Write};
use std::process::ExitCode;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;
use stitching_core::journal::Lock;

pub const BOLD: Style = Style::new().bold();
pub const DIM: Style = Style::new().dimmed();
pub const RED: Style = AnsiColor::Red.on_default().bold();
pub const YELLOW: Style = AnsiColor::Yellow.on_default().bold();
pub const GREEN: Style = AnsiColor::Green.on_default();
pub const CYAN: Style = AnsiColor::Cyan.on_default();

/// How to speak to the user.
///
/// Results are collected, and written when the command is done or [`Ui::show`] is called, so that what is read can be locked until then and no
/// longer: a reader of the output that stands still keeps nobody from writing. Messages that come behind a result wait
/// with it.
pub struct Ui {
    quiet: bool,
    pub verbose: bool,
    waiting: Mutex<Waiting>,
}

/// What is written when the command is done.
#[derive(Default)]
struct Waiting {
    texts: Vec<(Stream, String)>,
    lock: Option<Lock>,
    /// Whether the command has changed something.
    changed: bool,
    /// Why a result could not be written.
    failed: Option<std::io::Error>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Stream {
    Out,
    Err,
}

impl Ui {
    pub fn new(global: &Global) -> Ui {
        match global.color {
            Color::Auto => {}
            Color::Always => anstream::ColorChoice::Always.write_global(),
            Color::Never => anstream::ColorChoice::Never.write_global(),
        }
        Ui { quiet: global.quiet, verbose: global.verbose, waiting: Mutex::default() }
    }

    fn waiting(&self) -> MutexGuard<'_, Waiting> {
        self.waiting.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Prints a result, when the command is done.
    pub fn out(&self, text: &str) {
        let texts = &mut self.waiting().texts;
        match texts.last_mut() {
            Some((Stream::Out, last)) => last.push_str(text),
            _ => texts.push((Stream::Out, text.to_owned())),
        }
    }

    /// As [`Ui::out`], for a text that may be long.
    pub fn out_owned(&self, text: String) {
        self.waiting().texts.push((Stream::Out, text));
    }

    /// Keeps `lock` until the command is done and its result is about to be written.
    pub fn keep_locked(&self, lock: Option<Lock>) {
        self.waiting().lock = lock;
    }

    /// Takes note that the command has changed something.
    pub fn changed(&self) {
        self.waiting().changed = true;
    }

    /// Writes the results so far, and gives the lock back. What cannot be written is told by [`Ui::finish`].
    pub fn show(&self) {
        let (texts, lock) = {
            let mut waiting = self.waiting();
            (std::mem::take(&mut waiting.texts), waiting.lock.take())
        };
        drop(lock);
        for (stream, text) in texts {
            match stream {
                Stream::Err => self.err(&text),
                Stream::Out if self.waiting().failed.is_none() => {
                    let failed = write_out(&text).err();
                    self.waiting().failed = failed;
                }
                Stream::Out => {}
            }
        }
    }

    /// Writes the result; `code` is how the command ended otherwise. A reader that has gone away (`| head`) is no
    /// fault.
    pub fn finish(&self, code: ExitCode) -> ExitCode {
        self.show();
        let Waiting { failed, changed, .. } = std::mem::take(&mut *self.waiting());
        match failed {
            Some(error) if error.kind() != std::io::ErrorKind::BrokenPipe => {
                let error_word = styled(RED, "error");
                self.err(&format!("{error_word}{} cannot write the result: {error}", styled(BOLD, ":")));
                if changed {
                    let note = "what the command does is done: only its output is missing";
                    self.err(&format!("{} {note}", styled(CYAN, "note:")));
                }
                ExitCode::from(crate::exit::CANNOT_WRITE)
            }
            _ => code,
        }
    }

    /// Prints a message that is not part of the result, unless asked to be quiet.
    pub fn note(&self, text: &str) {
        if !self.quiet {
            self.err(text);
        }
    }

    /// Prints a message, behind the results that it follows.
    pub fn err(&self, text: &str) {
        let texts = &mut self.waiting().texts;
        if !texts.is_empty() {
            texts.push((Stream::Err, text.to_owned()));
            return;
        }
        let mut err = anstream::stderr().lock();
        // There is nobody to tell if even this fails.
        let _ = writeln!(err, "{text}");
    }

    /// Prints a value as one JSON document.
    pub fn json(&self, value: &(impl serde::Serialize + ?Sized)) {
        let text = serde_json::to_string_pretty(value).unwrap_or_default();
        self.out(&format!("{text}\n"));
    }

    /// The width of the terminal, or 100 where there is none.
    pub fn width(&self) -> usize {
        let columns = std::env::var("COLUMNS").ok().and_then(|columns| columns.parse().ok());
        columns
            .or_else(|| terminal_size::terminal_size().map(|(width, _)| usize::from(width.0)))
            .unwrap_or(100)
            .clamp(40, 200)
    }

    /// The height of the terminal in lines; `None` where there is none.
    pub fn height(&self) -> Option<usize> {
        let on_terminal = std::io::stdout().is_terminal();
        let size = terminal_size::terminal_size().filter(|_| on_terminal);
        size.map(|(_, height)| usize::from(height.0))
    }

    /// A turning sign while `work` runs, on a terminal only, if it takes long enough to be seen.
    pub fn progress<T>(&self, message: &'static str, work: impl FnOnce() -> T) -> T {
        if self.quiet || !std::io::stderr().is_terminal() {
            return work();
        }
        let bar = indicatif::ProgressBar::new_spinner().with_message(message);
        bar.enable_steady_tick(Duration::from_millis(300));
        let result = work();
        bar.finish_and_clear();
        result
    }
}

/// Writes a text to standard output, to the last byte.
pub fn write_out(text: &str) -> std::io::Result<()> {
    // Without a style in it there is nothing to strip.
    if memchr::memchr(0x1b, text.as_bytes()).is_none() {
        let mut out = std::io::stdout().lock();
        out.write_all(text.as_bytes())?;
        return out.flush();
    }
    let mut out = anstream::stdout().lock();
    out.write_all(text.as_bytes())?;
    out.flush()
}

/// Whether the result is to be JSON; other machine formats are refused by name.
pub fn wants_json(global: &Global) -> Result<bool, stitching_core::Error> {
    wants_one_of(global, &[Format::Json])?;
    Ok(global.format == Format::Json)
}

/// Refuses machine formats other than these.
pub fn wants_one_of(global: &Global, formats: &[Format]) -> Result<(), stitching_core::Error> {
    if global.format == Format::Human || formats.contains(&global.format) {
        return Ok(());
    }
    let name = |format: &Format| {
        format.to_possible_value().map(|value| value.get_name().to_owned()).unwrap_or_default()
    };
    let others: Vec<String> = formats.iter().map(name).collect();
    Err(stitching_core::Error::Usage {
        message: format!("this command does not write the format `{}`", name(&global.format)),
        help: format!("use --format human or --format {}", others.join(", ")).into(),
    })
}

/// `text` in a style.
pub fn styled(style: Style, text: impl std::fmt::Display) -> String {
    format!("{style}{text}{style:#}")
}

/// "1 file", "2 files".
pub fn count(number: usize, word: &str) -> String {
    if number == 1 {
        format!("1 {word}")
    } else if let Some(stem) = word.strip_suffix('y') {
        format!("{} {stem}ies", grouped(number))
    } else {
        format!("{} {word}s", grouped(number))
    }
}

/// A number with blanks between the thousands.
pub fn grouped(number: usize) -> String {
    let digits = number.to_string();
    let mut out = String::new();
    for (at, digit) in digits.chars().enumerate() {
        if at > 0 && (digits.len() - at).is_multiple_of(3) && digits.len() > 4 {
            out.push(' ');
        }
        out.push(digit);
    }
    out
}
