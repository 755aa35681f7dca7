//! The exit codes: documented, and the same for ever.

use std::process::ExitCode;
use upper_shelf_core::Kind;

/// The codes, as the help shows them.
pub const TABLE: &str = "\
Exit codes:
  0  done; for compare: no difference
  1  the manifest or the files have problems
  2  the command line is wrong
  3  the machine: no permission, no space, a file changed while it was read
  4  the package can't be read
  5  compare: there are differences
  6  the product's id is not the one it was released under
  7  another build is writing the same package
  8  verify: a signature is missing, or doesn't hold
  9  build --digests: signatures are awaited";

/// What Windows programs end with that were stopped by Ctrl-C; elsewhere the signal itself ends the program.
#[cfg(windows)]
pub const STOPPED: i32 = 0xC000_013A_u32 as i32;

/// How a command ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Exit {
    /// Done.
    Done,
    /// See [`TABLE`].
    Problems,
    /// See [`TABLE`].
    Machine,
    /// See [`TABLE`].
    Package,
    /// See [`TABLE`].
    Different,
    /// See [`TABLE`].
    Identity,
    /// See [`TABLE`].
    Busy,
    /// See [`TABLE`].
    Signature,
    /// See [`TABLE`].
    Awaited,
}

impl Exit {
    /// The code for a kind of failure.
    pub fn of(kind: Kind) -> Self {
        match kind {
            Kind::Problems => Self::Problems,
            Kind::Machine => Self::Machine,
            Kind::Package => Self::Package,
            Kind::Identity => Self::Identity,
            Kind::Busy => Self::Busy,
            Kind::Awaited => Self::Awaited,
        }
    }
}

impl From<Exit> for ExitCode {
    fn from(code: Exit) -> Self {
        Self::from(match code {
            Exit::Done => 0,
            Exit::Problems => 1,
            Exit::Machine => 3,
            Exit::Package => 4,
            Exit::Different => 5,
            Exit::Identity => 6,
            Exit::Busy => 7,
            Exit::Signature => 8,
            Exit::Awaited => 9,
        })
    }
}
