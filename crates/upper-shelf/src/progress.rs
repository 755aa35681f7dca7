//! How far a build is: bars with sizes and the time left on a terminal, plain lines elsewhere.

use crate::output::{Output, said};
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use std::io::{IsTerminal, Write};
use std::sync::Mutex;
use upper_shelf_core::build::Progress;
use upper_shelf_core::footprint::text_bytes;

/// The build's bar, or its lines.
pub struct Bar {
    bar: Mutex<ProgressBar>,
    lines: bool,
    silent: bool,
}

impl Bar {
    pub fn new(out: &Output) -> Self {
        let terminal = std::io::stderr().is_terminal();
        Self { bar: Mutex::new(ProgressBar::hidden()), lines: !terminal, silent: out.json }
    }

    fn bar(&self) -> ProgressBar {
        self.bar.lock().unwrap_or_else(|e| e.into_inner()).clone()
    }
}

impl Progress for Bar {
    fn begin(&self, packages: &[&str], bytes: u64) {
        if self.silent {
            return;
        }
        if self.lines {
            packages.iter().for_each(|p| said!("packing {} into {p}", text_bytes(bytes)));
            return;
        }
        let plain = std::env::var_os("NO_COLOR").is_some_and(|v| !v.is_empty());
        let form = if plain {
            "{msg:40!} [{bar:30}] {decimal_bytes:>9} of {decimal_total_bytes:9} {eta} left"
        } else {
            "{msg:40!} {bar:30.cyan/dim} {decimal_bytes:>9} of {decimal_total_bytes:9} {eta} left"
        };
        let bar = ProgressBar::with_draw_target(Some(bytes), ProgressDrawTarget::stderr());
        bar.set_style(
            ProgressStyle::with_template(form).unwrap_or_else(|_| ProgressStyle::default_bar()).progress_chars("━╸─"),
        );
        bar.set_message(packages.join(", "));
        *self.bar.lock().unwrap_or_else(|e| e.into_inner()) = bar;
    }

    fn advance(&self, bytes: u64) {
        self.bar().inc(bytes);
    }

    fn verifying(&self) {
        let bar = self.bar();
        bar.set_message("reading back");
        if self.lines && !self.silent {
            said!("reading back");
        }
    }

    fn end(&self) {
        self.bar().finish_and_clear();
    }
}
