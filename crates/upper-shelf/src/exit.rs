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
  7  another build is writing the same package";

/// What Windows programs end with that were stopped by Ctrl-C; elsewhere the signal itself ends the program.
#[cfg(windows)]
pub const STOPPED: i32 = 0xC000_013A_u32 as i32;

/// How a command ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Code {
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
}

impl Code {
    /// The code for a kind of failure.
    pub fn of(kind: Kind) -> Self {
        match kind {
            Kind::Problems => Self::Problems,
            Kind::Machine => Self::Machine,
            Kind::Package => Self::Package,
            Kind::Identity => Self::Identity,
            Kind::Busy => Self::Busy,
        }
    }
}

impl From<Code> for ExitCode {
    fn from(code: Code) -> Self {
        Self::from(match code {
            Code::Done => 0,
            Code::Problems => 1,
            Code::Machine => 3,
            Code::Package => 4,
            Code::Different => 5,
            Code::Identity => 6,
            Code::Busy => 7,
        })
    }
}
