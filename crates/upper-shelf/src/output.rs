//! What people and machines read: text with colours where a terminal wants them, or JSON.

use anstyle::{AnsiColor, Style};
use serde::Serialize;
use std::cell::RefCell;
use std::io::{self, Write};
use upper_shelf_core::problem::{Code, Problem, Severity};
use upper_shelf_core::{Failure, Kind};

const BOLD: Style = Style::new().bold();
const DIM: Style = Style::new().dimmed();
const RED: Style = AnsiColor::Red.on_default().bold();
const YELLOW: Style = AnsiColor::Yellow.on_default().bold();
const GREEN: Style = AnsiColor::Green.on_default().bold();
const CYAN: Style = AnsiColor::Cyan.on_default();

/// Where a command says what it has to say.
pub struct Output {
    /// JSON instead of text.
    pub json: bool,
    /// Each decision.
    pub verbose: bool,
    /// Why the result could not be written to its end.
    cut_off: RefCell<Option<io::Error>>,
}

/// What any command prints when it fails.
#[derive(Serialize, schemars::JsonSchema)]
pub struct Failed<'f> {
    /// Why.
    pub error: &'f Failure,
}

/// A line on standard error. Where even that can't be written there is nobody to tell.
macro_rules! said {
    ($($text:tt)*) => {{
        let _ = writeln!(anstream::stderr(), $($text)*);
    }};
}
pub(crate) use said;

impl Output {
    pub fn new(json: bool, verbose: bool) -> Self {
        Self { json, verbose, cut_off: RefCell::default() }
    }

    fn put(&self, text: &str) {
        let mut cut_off = self.cut_off.borrow_mut();
        if cut_off.is_none() {
            let mut out = anstream::stdout();
            *cut_off = writeln!(out, "{text}").and_then(|()| out.flush()).err();
        }
    }

    /// What kept the result from being written. A reader that has read enough is no failure.
    pub fn unwritten(&self) -> Option<Failure> {
        let e = self.cut_off.borrow_mut().take().filter(|e| e.kind() != io::ErrorKind::BrokenPipe)?;
        Some(Failure::io("can't write", std::path::Path::new("standard output"), e))
    }

    /// A command's result for machines.
    pub fn result(&self, value: &impl Serialize) {
        let text = serde_json::to_string_pretty(value).unwrap_or_default();
        self.put(&text);
    }

    /// A line of the result.
    pub fn line(&self, text: impl AsRef<str>) {
        if !self.json {
            self.put(text.as_ref());
        }
    }

    /// A heading.
    pub fn heading(&self, text: &str) {
        self.line(format!("{BOLD}{text}{BOLD:#}"));
    }

    /// A text of many lines at once; those at the margin are headings.
    pub fn text(&self, text: &str) {
        let styled: Vec<String> = text
            .lines()
            .map(|l| if l.is_empty() || l.starts_with(' ') { l.to_owned() } else { format!("{BOLD}{l}{BOLD:#}") })
            .collect();
        self.line(styled.join("\n"));
    }

    /// Something that went well.
    pub fn good(&self, text: &str) {
        self.line(format!("{GREEN}✓{GREEN:#} {text}"));
    }

    /// Something that went wrong, and belongs to the result.
    pub fn bad(&self, text: &str) {
        self.line(format!("{RED}✗{RED:#} {text}"));
    }

    /// Something of lesser weight.
    pub fn aside(&self, text: &str) {
        self.line(format!("{DIM}{text}{DIM:#}"));
    }

    /// A line of a difference.
    pub fn difference(&self, sign: char, text: &str) {
        let style = match sign {
            '+' => GREEN,
            '-' => RED,
            _ => YELLOW,
        };
        self.line(format!("  {style}{sign}{style:#} {text}"));
    }

    /// Said with -v only.
    pub fn detail(&self, text: impl AsRef<str>) {
        if self.verbose {
            said!("{DIM}{}{DIM:#}", text.as_ref());
        }
    }

    /// Warnings of a command that goes on.
    pub fn warnings<'p>(&self, problems: impl IntoIterator<Item = &'p Problem>) {
        if !self.json {
            problems.into_iter().for_each(|p| self.problem(p));
        }
    }

    fn problem(&self, p: &Problem) {
        let (style, word, remedy) = match (p.code, p.severity) {
            (Code::Awaited, _) => (YELLOW, "waiting", "next"),
            (_, Severity::Error) => (RED, "error", "instead"),
            (_, Severity::Warning) => (YELLOW, "warning", "instead"),
        };
        said!("{style}{word}{style:#}{BOLD}: {}{BOLD:#}", p.what);
        let mut indent = 0;
        if let Some(span) = &p.span {
            let number = span.line.to_string();
            indent = number.len();
            let gap = " ".repeat(indent);
            said!("{gap}{CYAN}-->{CYAN:#} {}:{}:{}", span.file.display(), span.line, span.column);
            // A tab is shown as one column, so that the marks stand under what they mean.
            let text = span.text.replace('\t', " ");
            let marks = "^".repeat(span.width.min(text.chars().count().saturating_sub(span.column - 1)).max(1));
            said!("{gap} {CYAN}|{CYAN:#}");
            said!("{CYAN}{number} |{CYAN:#} {text}");
            said!("{gap} {CYAN}|{CYAN:#} {}{style}{marks}{style:#}", " ".repeat(span.column - 1));
        }
        let gap = " ".repeat(indent);
        if let Some(why) = &p.why {
            said!("{gap} {CYAN}={CYAN:#} why: {}", why);
        }
        if let Some(instead) = &p.instead {
            let mut lines = instead.lines();
            said!("{gap} {CYAN}={CYAN:#} {remedy}: {}", lines.next().unwrap_or_default());
            let indent = " ".repeat(remedy.len());
            lines.for_each(|line| said!("{gap}     {indent}{}", line));
        }
        said!();
    }

    /// Why a command failed: everything at once.
    pub fn failure(&self, failure: &Failure) {
        if self.json {
            return self.result(&Failed { error: failure });
        }
        self.in_words(failure);
    }

    /// The same on standard error, whatever form the result has.
    pub fn in_words(&self, failure: &Failure) {
        failure.problems.iter().for_each(|p| self.problem(p));
        let errors = failure.problems.iter().filter(|p| p.is_error()).count();
        let s = if errors == 1 { "" } else { "s" };
        match failure.kind {
            Kind::Problems | Kind::Identity => said!("{RED}{errors} error{s}{RED:#}; nothing was written"),
            Kind::Machine | Kind::Busy | Kind::Package | Kind::Awaited => {}
        }
    }
}
