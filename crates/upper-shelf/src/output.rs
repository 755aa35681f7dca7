//! What people and machines read: text with colours where a terminal wants them, or JSON.

use anstream::{eprintln, println};
use anstyle::{AnsiColor, Style};
use serde::Serialize;
use upper_shelf_core::problem::{Problem, Severity};
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
}

impl Output {
    pub fn new(json: bool, verbose: bool) -> Self {
        Self { json, verbose }
    }

    /// A command's result for machines.
    pub fn result(&self, value: &impl Serialize) {
        let text = serde_json::to_string_pretty(value).unwrap_or_default();
        println!("{}", text);
    }

    /// A line of the result.
    pub fn line(&self, text: impl AsRef<str>) {
        if !self.json {
            println!("{}", text.as_ref());
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
            eprintln!("{DIM}{}{DIM:#}", text.as_ref());
        }
    }

    /// Warnings of a command that goes on.
    pub fn warnings<'p>(&self, problems: impl IntoIterator<Item = &'p Problem>) {
        if !self.json {
            problems.into_iter().for_each(|p| self.problem(p));
        }
    }

    fn problem(&self, p: &Problem) {
        let (style, word) = match p.severity {
            Severity::Error => (RED, "error"),
            Severity::Warning => (YELLOW, "warning"),
        };
        eprintln!("{style}{word}{style:#}{BOLD}: {}{BOLD:#}", p.what);
        let mut indent = 0;
        if let Some(span) = &p.span {
            let number = span.line.to_string();
            indent = number.len();
            let gap = " ".repeat(indent);
            eprintln!("{gap}{CYAN}-->{CYAN:#} {}:{}:{}", span.file.display(), span.line, span.column);
            // A tab is shown as one column, so that the marks stand under what they mean.
            let text = span.text.replace('\t', " ");
            let marks = "^".repeat(span.width.min(text.chars().count().saturating_sub(span.column - 1)).max(1));
            eprintln!("{gap} {CYAN}|{CYAN:#}");
            eprintln!("{CYAN}{number} |{CYAN:#} {text}");
            eprintln!("{gap} {CYAN}|{CYAN:#} {}{style}{marks}{style:#}", " ".repeat(span.column - 1));
        }
        let gap = " ".repeat(indent);
        if let Some(why) = &p.why {
            eprintln!("{gap} {CYAN}={CYAN:#} why: {}", why);
        }
        if let Some(instead) = &p.instead {
            let mut lines = instead.lines();
            eprintln!("{gap} {CYAN}={CYAN:#} instead: {}", lines.next().unwrap_or_default());
            lines.for_each(|line| eprintln!("{gap}            {}", line));
        }
        eprintln!();
    }

    /// Why a command failed: everything at once.
    pub fn failure(&self, failure: &Failure) {
        if self.json {
            #[derive(Serialize)]
            struct Failed<'f> {
                error: &'f Failure,
            }
            return self.result(&Failed { error: failure });
        }
        failure.problems.iter().for_each(|p| self.problem(p));
        let errors = failure.problems.iter().filter(|p| p.is_error()).count();
        let s = if errors == 1 { "" } else { "s" };
        match failure.kind {
            Kind::Problems | Kind::Identity => eprintln!("{RED}{errors} error{s}{RED:#}; nothing was written"),
            Kind::Machine | Kind::Busy | Kind::Package => {}
        }
    }
}
