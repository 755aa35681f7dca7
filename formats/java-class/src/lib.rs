//! Java class files: which Java they need, what they refer to, which texts they hold, and what the descriptor of a module says.
//!
//! Code is not looked at: whatever it refers to stands in the constant pool.
//!
//! Source of the format's facts: The Java Virtual Machine Specification, Java SE 25 Edition, chapter 4.

mod bytes;
mod constants;
mod module;
mod simple;

pub use format_error::{Error, Result};
pub use module::{Module, Provides, Requires};
pub use simple::{Method, Returns, simple};

use bytes::Bytes;
use constants::Constants;
use std::borrow::Cow;
use std::collections::BTreeSet;

/// What every class file begins with.
const MAGIC: u32 = 0xCAFE_BABE;
/// Class files of the first Java have the version 45; each Java counts on from there.
const BEFORE_FIRST: u16 = 44;

/// What a class file says of itself and of others.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Class<'b> {
    /// The Java that it is for, such as 17.
    pub java: u16,
    /// Its name, such as `works/fernhollow/Report`; `module-info` for the descriptor of a module.
    pub name: Cow<'b, str>,
    /// The classes that it refers to, itself among them. Types that only stand in descriptors and signatures are here, too.
    pub classes: BTreeSet<Cow<'b, str>>,
    /// Texts that its code may use: classes are also found by names.
    pub texts: Vec<Cow<'b, str>>,
    /// What it says as the descriptor of a module.
    pub module: Option<Module>,
}

/// Reads a class file.
///
/// # Errors
/// It is none, or is damaged.
pub fn read(bytes: &[u8]) -> Result<Class<'_>> {
    let mut at = Bytes::new(bytes);
    if at.u32()? != MAGIC {
        return Err(Error::at(0, "it is no class file"));
    }
    let _minor = at.u16()?;
    let version = at.u16()?;
    let java = version.checked_sub(BEFORE_FIRST).filter(|java| *java > 0);
    let java = java.ok_or_else(|| Error::at(6, format!("there is no Java with class files of version {version}")))?;
    let constants = Constants::read(&mut at)?;
    let _access = at.u16()?;
    let name = constants.class(at.u16()?)?;
    let _above = at.u16()?;
    at.skip(usize::from(at.peek_u16()?) * 2 + 2)?;
    for _fields_and_methods in 0..2 {
        for _ in 0..at.u16()? {
            at.skip(6)?;
            for _ in 0..at.u16()? {
                at.skip(2)?;
                let length = at.u32()?;
                at.skip(length as usize)?;
            }
        }
    }
    let mut module = None;
    for _ in 0..at.u16()? {
        let kind = constants.text(at.u16()?)?;
        let length = at.u32()?;
        let inside = at.take(length as usize)?;
        if kind == "Module" {
            module = Some(Module::read(&mut inside.clone(), &constants)?);
        }
    }
    Ok(Class { java, name, classes: constants.classes()?, texts: constants.texts()?, module })
}
