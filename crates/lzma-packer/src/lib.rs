//! Raw LZMA streams (without a container), packed by liblzma a piece at a time, on one thread or on two.
//!
//! Two things take less time here than behind the safe bindings, for the very same bytes:
//!
//! - Finding matches means jumping about in tables of several hundred megabytes. On pages of 4 KiB each jump is a miss in
//!   the processor's table of pages; `memory` asks for large ones, which saves a tenth of the time.
//! - One stream can't be cut into parts. But what matches there are does not depend on which are chosen: `pair` lets
//!   liblzma's finder run ahead on a thread of its own, and its encoder choose from what was found.
//!
//! `inner` names what that needs of liblzma beyond its open interface; with another release than the known one
//! everything is done by `single`.
//!
//! ```
//! let mut packer = lzma_packer::Packer::new(1 << 16, false, 1).expect("a dictionary of 64 KiB");
//! let mut out = [0; 256];
//! let step = packer.step(b"comb comb comb comb", &mut out, true).expect("packed");
//! assert!(step.ended && step.taken == 19 && step.given < 19);
//! ```

mod inner;
mod memory;
mod pair;
mod single;

use liblzma_sys as c;

/// Bytes that a match has before the search for a longer one ends. With it liblzma looks at 32 nodes of its tree.
const NICE: u32 = 32;
/// The preset of liblzma that gives what is not set here: three bits of literal context, two of position.
const PRESET: u32 = 6;

/// The packer did not go on: there is not enough memory, or it does not take the dictionary.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Failed;

/// What one step did.
#[derive(Debug, Default, Clone, Copy, PartialEq, Eq)]
pub struct Step {
    /// Plain bytes taken.
    pub taken: usize,
    /// Packed bytes given.
    pub given: usize,
    /// The stream is whole.
    pub ended: bool,
}

/// A stream under way. It takes about twelve times the dictionary in memory, on two threads fourteen times.
pub struct Packer(Kind);

enum Kind {
    Single(single::Single),
    Pair(pair::Pair),
}

impl Packer {
    /// Begins a stream with a dictionary of so many bytes (4 KiB to 1.5 GiB), with the filter for x86 code before it
    /// when asked for. With more than one thread it uses a second one. The bytes are the same.
    ///
    /// # Errors
    /// [`Failed`] for another dictionary, and without the memory.
    pub fn new(dictionary: u32, filtered: bool, threads: usize) -> Result<Self, Failed> {
        let options = options(dictionary)?;
        Ok(Self(if threads > 1 && inner::is_known() {
            Kind::Pair(pair::Pair::new(options, filtered)?)
        } else {
            Kind::Single(single::Single::new(options, filtered)?)
        }))
    }

    /// Packs of `input` what it can, into `output`. With `finish` no more input comes after this; the step is taken again
    /// with what is left of it until the stream has ended.
    ///
    /// # Errors
    /// [`Failed`] without memory. Behind its end a stream takes nothing more.
    pub fn step(&mut self, input: &[u8], output: &mut [u8], finish: bool) -> Result<Step, Failed> {
        match &mut self.0 {
            Kind::Single(it) => it.step(input, output, finish),
            Kind::Pair(it) => it.step(input, output, finish),
        }
    }
}

fn options(dictionary: u32) -> Result<c::lzma_options_lzma, Failed> {
    // SAFETY: the structure is numbers, and pointers that may be null; the preset sets what is not zero.
    let mut options: c::lzma_options_lzma = unsafe { std::mem::zeroed() };
    // SAFETY: `options` is a valid place to write to.
    if unsafe { c::lzma_lzma_preset(&mut options, PRESET) } != 0 {
        return Err(Failed);
    }
    options.dict_size = dictionary;
    options.mode = c::LZMA_MODE_NORMAL;
    options.mf = c::LZMA_MF_BT4;
    options.nice_len = NICE;
    Ok(options)
}
