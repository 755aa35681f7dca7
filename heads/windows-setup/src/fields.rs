//! The form of the journal and of the record: a line for each thing, its texts between tabs, what would end them escaped;
//! `end` as the last line says that nothing is missing.

use crate::registry::{At, Data};
use crate::services::{Config, Settings};
use crate::system::{code, Fault, Result};
use crate::text::{from_utf8, hex, number, t, to_utf8, unhex, Text};
use alloc::boxed::Box;
use alloc::vec::Vec;

const TAB: u16 = b'\t' as u16;
const LINE: u16 = b'\n' as u16;
const RETURN: u16 = b'\r' as u16;
const SLASH: u16 = b'\\' as u16;

/// Lines being written.
pub struct Lines(Vec<u16>);

impl Lines {
    pub fn new() -> Self {
        Self(Vec::new())
    }

    /// Begins a line.
    pub fn kind(&mut self, kind: Text) -> &mut Self {
        if !self.0.is_empty() {
            self.0.push(LINE);
        }
        self.0.extend_from_slice(kind.units());
        self
    }

    #[inline(never)]
    pub fn text(&mut self, text: Text) -> &mut Self {
        self.0.push(TAB);
        for unit in text.units() {
            let escaped = match *unit {
                SLASH => b'\\',
                TAB => b't',
                LINE => b'n',
                RETURN => b'r',
                unit => {
                    self.0.push(unit);
                    continue;
                }
            };
            self.0.extend_from_slice(&[SLASH, escaped.into()]);
        }
        self
    }

    pub fn number(&mut self, n: u32) -> &mut Self {
        self.text(number(n))
    }

    pub fn at(&mut self, at: At) -> &mut Self {
        self.number(u32::from(at.machine) | u32::from(at.narrow) << 1).text(at.key).text(at.name)
    }

    pub fn data(&mut self, data: Option<Data>) -> &mut Self {
        match data {
            None => self.text(t!("none")).text(t!("")),
            Some(data) => self.number(data.kind).text(hex(&data.bytes)),
        }
    }

    pub fn config(&mut self, config: Option<Config>) -> &mut Self {
        match config {
            None => self.text(t!("none")),
            Some(c) => self
                .text(c.name)
                .text(c.title)
                .text(c.description)
                .text(c.command)
                .number(c.start as u32)
                .text(c.account),
        }
    }

    pub fn bytes(&mut self) -> Vec<u8> {
        self.kind(t!("end\n"));
        to_utf8(&self.0)
    }
}

/// Takes lines apart, where they stand.
pub struct Fields {
    units: &'static mut [u16],
    at: usize,
    /// Whether the line is over.
    ended: bool,
}

pub fn broken() -> Fault {
    Fault::new(code::FAILED, t!("setup-failed"), t!("the journal or the record is damaged"))
}

impl Fields {
    pub fn of(bytes: &[u8]) -> Result<Self> {
        let units = from_utf8(bytes);
        let end = t!("\nend\n").units();
        if units.ends_with(end) || units == end[1..] {
            Ok(Self { units: units.leak(), at: 0, ended: true })
        } else {
            Err(broken())
        }
    }

    /// The next line's kind; none behind the last one.
    pub fn kind(&mut self) -> Option<Text> {
        while !self.ended {
            self.next();
        }
        self.ended = false;
        let kind = self.next();
        (!kind.is(t!("end"))).then_some(kind)
    }

    /// The letters up to the next tab or line, which become its zero.
    fn next(&mut self) -> Text {
        let (start, mut to) = (self.at, self.at);
        loop {
            // There is always a line's end before the end.
            let mut unit = self.units.get(self.at).copied().unwrap_or(LINE);
            self.at += 1;
            match unit {
                TAB => break,
                LINE => {
                    self.ended = true;
                    break;
                }
                SLASH => {
                    unit = match self.units.get(self.at).map(|u| *u as u8) {
                        Some(b't') => TAB,
                        Some(b'n') => LINE,
                        Some(b'r') => RETURN,
                        _ => SLASH,
                    };
                    self.at += 1;
                }
                _ => {}
            }
            self.units[to] = unit;
            to += 1;
        }
        match self.units.get_mut(to) {
            Some(unit) => {
                *unit = 0;
                // SAFETY: it ends with that zero, and these units are never given back.
                unsafe { Text::at(self.units.as_ptr().add(start)) }
            }
            None => t!("end"),
        }
    }

    pub fn text(&mut self) -> Result<Text> {
        if self.ended {
            Err(broken())
        } else {
            Ok(self.next())
        }
    }

    pub fn number(&mut self) -> Result<u32> {
        Ok(self.text()?.number())
    }

    pub fn flag(&mut self) -> Result<bool> {
        Ok(self.number()? == 1)
    }

    pub fn at(&mut self) -> Result<At> {
        let bits = self.number()?;
        Ok(At::of(bits & 1 != 0, bits & 2 != 0, self.text()?, self.text()?))
    }

    pub fn data(&mut self) -> Result<Option<Data>> {
        let (kind, hex) = (self.text()?, self.text()?);
        Ok((!kind.is(t!("none"))).then(|| Data::new(kind.number(), unhex(hex))))
    }

    pub fn config(&mut self) -> Result<Option<Config>> {
        let name = self.text()?;
        if name.is(t!("none")) {
            return Ok(None);
        }
        let (title, description, command) = (self.text()?, self.text()?, self.text()?);
        let start = self.number()? as i32;
        let account = self.text()?;
        Ok(Some(Box::leak(Box::new(Settings { name, title, description, command, start, account }))))
    }
}
