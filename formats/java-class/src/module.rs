//! The descriptor of a module (`module-info.class`).

use crate::bytes::Bytes;
use crate::constants::Constants;
use format_error::Result;

/// A module that another one needs only to be compiled (`requires static`).
const STATIC: u16 = 0x40;

/// What a module says of itself.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Module {
    /// Its name, such as `java.logging`.
    pub name: String,
    /// What it needs.
    pub requires: Vec<Requires>,
    /// Services that it looks for: names of classes, with slashes.
    pub uses: Vec<String>,
    /// Services that it brings.
    pub provides: Vec<Provides>,
}

/// A module that is needed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Requires {
    /// Its name.
    pub module: String,
    /// Whether it is needed only to compile; it may be missing then.
    pub only_to_compile: bool,
}

/// A service that is brought.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Provides {
    /// The service: the name of a class, with slashes.
    pub service: String,
    /// The classes that do it.
    pub by: Vec<String>,
}

fn several<T>(at: &mut Bytes, mut one: impl FnMut(&mut Bytes) -> Result<T>) -> Result<Vec<T>> {
    (0..at.u16()?).map(|_| one(at)).collect()
}

impl Module {
    pub(crate) fn read(at: &mut Bytes, constants: &Constants) -> Result<Self> {
        let name = constants.name(at.u16()?)?.into_owned();
        at.skip(4)?;
        let class = |at: &mut Bytes| Ok(constants.class(at.u16()?)?.into_owned());
        let requires = several(at, |at| {
            let module = constants.name(at.u16()?)?.into_owned();
            let only_to_compile = at.u16()? & STATIC != 0;
            at.skip(2)?;
            Ok(Requires { module, only_to_compile })
        })?;
        for _exports_and_opens in 0..2 {
            several(at, |at| {
                at.skip(4)?;
                several(at, |at| at.skip(2))
            })?;
        }
        let uses = several(at, class)?;
        let provides = several(at, |at| Ok(Provides { service: class(at)?, by: several(at, class)? }))?;
        Ok(Self { name, requires, uses, provides })
    }
}
