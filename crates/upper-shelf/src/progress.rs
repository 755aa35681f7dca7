//! How far a build is: a bar with sizes and the time left on a terminal, plain lines elsewhere, and JSON lines for machines.

use crate::output::{Output, said};
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use serde::Serialize;
use std::io::{IsTerminal, Write};
use std::sync::Mutex;
use std::time::{Duration, Instant};
use upper_shelf_core::footprint::text_bytes;
use upper_shelf_core::packaging::Progress;
use upper_shelf_core::sources::Fetching;

/// Between two lines for machines that only say how far it is.
const PAUSE: Duration = Duration::from_secs(1);

/// A line on standard error for machines.
#[derive(Debug, Serialize, schemars::JsonSchema)]
#[serde(tag = "progress", rename_all = "kebab-case")]
pub enum Line<'p> {
    /// Packing begins.
    Packing {
        /// The packages' file names: those of one platform are packed together.
        packages: &'p [&'p str],
        /// How many bytes of files go into them.
        of_bytes: u64,
    },
    /// How far it is; about once a second.
    Packed {
        /// Bytes that are packed.
        bytes: u64,
        /// Bytes in all.
        of_bytes: u64,
    },
    /// The packages are read back and compared.
    ReadingBack,
    /// The packages have their names.
    Finished,
    /// Something that layers are made of is fetched.
    Fetching {
        /// Its name.
        name: &'p str,
        /// Its bytes, as far as that is known.
        of_bytes: Option<u64>,
    },
    /// It is there.
    Fetched,
}

/// Where progress goes.
enum Form {
    Bar,
    Lines,
    Json,
}

/// What is known of the packages that are being written.
struct State {
    bar: ProgressBar,
    bytes: u64,
    of_bytes: u64,
    said: Instant,
}

/// The build's bar, or its lines.
pub struct Bar {
    state: Mutex<State>,
    form: Form,
}

impl Bar {
    pub fn new(out: &Output) -> Self {
        let form = match (out.json, std::io::stderr().is_terminal()) {
            (true, _) => Form::Json,
            (false, true) => Form::Bar,
            (false, false) => Form::Lines,
        };
        let state = State { bar: ProgressBar::hidden(), bytes: 0, of_bytes: 0, said: Instant::now() };
        Self { state: Mutex::new(state), form }
    }

    fn state(&self) -> std::sync::MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(|e| e.into_inner())
    }
}

fn json(line: &Line) {
    said!("{}", serde_json::to_string(line).unwrap_or_default());
}

fn bar(bytes: u64, message: String) -> ProgressBar {
    let plain = std::env::var_os("NO_COLOR").is_some_and(|v| !v.is_empty());
    let form = if plain {
        "{msg:40!} [{bar:30}] {decimal_bytes:>9} of {decimal_total_bytes:9} {eta} left"
    } else {
        "{msg:40!} {bar:30.cyan/dim} {decimal_bytes:>9} of {decimal_total_bytes:9} {eta} left"
    };
    let bar = ProgressBar::with_draw_target(Some(bytes), ProgressDrawTarget::stderr());
    let style = ProgressStyle::with_template(form).unwrap_or_else(|_| ProgressStyle::default_bar());
    bar.set_style(style.progress_chars("━╸─"));
    bar.set_message(message);
    bar
}

impl Fetching for Bar {
    fn begin(&self, what: &str, bytes: Option<u64>) {
        let mut state = self.state();
        match self.form {
            Form::Bar => {
                state.bar.finish_and_clear();
                state.bar = bar(bytes.unwrap_or(0), format!("fetching {what}"));
            }
            Form::Lines => said!("fetching {what}"),
            Form::Json => json(&Line::Fetching { name: what, of_bytes: bytes }),
        }
    }

    fn reached(&self, bytes: u64) {
        if let Form::Bar = self.form {
            self.state().bar.set_position(bytes);
        }
    }

    fn end(&self) {
        match self.form {
            Form::Bar => self.state().bar.finish_and_clear(),
            Form::Lines => {}
            Form::Json => json(&Line::Fetched),
        }
    }
}

impl Progress for Bar {
    fn begin(&self, packages: &[&str], bytes: u64) {
        let mut state = self.state();
        (state.bytes, state.of_bytes, state.said) = (0, bytes, Instant::now());
        match self.form {
            Form::Bar => state.bar = bar(bytes, packages.join(", ")),
            Form::Lines => packages.iter().for_each(|p| said!("packing {} into {p}", text_bytes(bytes))),
            Form::Json => json(&Line::Packing { packages, of_bytes: bytes }),
        }
    }

    fn advance(&self, bytes: u64) {
        let mut state = self.state();
        state.bytes += bytes;
        match self.form {
            Form::Bar => state.bar.inc(bytes),
            Form::Lines => {}
            Form::Json if state.said.elapsed() >= PAUSE => {
                state.said = Instant::now();
                json(&Line::Packed { bytes: state.bytes, of_bytes: state.of_bytes });
            }
            Form::Json => {}
        }
    }

    fn verifying(&self) {
        match self.form {
            Form::Bar => self.state().bar.set_message("reading back"),
            Form::Lines => said!("reading back"),
            Form::Json => json(&Line::ReadingBack),
        }
    }

    fn end(&self) {
        match self.form {
            Form::Bar => self.state().bar.finish_and_clear(),
            Form::Lines => {}
            Form::Json => json(&Line::Finished),
        }
    }
}
