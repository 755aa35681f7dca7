//! The compression codecs an image may use, as pure functions from block to block. The work is done by the codecs' own
//! well-kept libraries (libdeflate, Zstandard, liblzma); this file only fits them to squashfs.

use std::cell::RefCell;

/// How the blocks of an image are packed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Codec {
    /// zlib streams; levels 1 to 12.
    Gzip {
        /// 1 (fast) to 12 (small).
        level: u32,
    },
    /// Zstandard frames; levels 1 to 22.
    Zstd {
        /// 1 (fast) to 22 (small).
        level: u32,
    },
    /// XZ streams with a dictionary of one block; presets 0 to 9.
    Xz {
        /// 0 (fast) to 9 (small).
        level: u32,
    },
}

impl Codec {
    /// The number in the superblock.
    pub fn id(self) -> u16 {
        match self {
            Self::Gzip { .. } => Algorithm::Gzip as u16,
            Self::Xz { .. } => Algorithm::Xz as u16,
            Self::Zstd { .. } => Algorithm::Zstd as u16,
        }
    }

    /// The levels that the codec takes.
    pub fn levels(self) -> std::ops::RangeInclusive<u32> {
        match self {
            Self::Gzip { .. } => 1..=12,
            Self::Zstd { .. } => 1..=22,
            Self::Xz { .. } => 0..=9,
        }
    }

    /// The chosen level.
    pub fn level(self) -> u32 {
        match self {
            Self::Gzip { level } | Self::Zstd { level } | Self::Xz { level } => level,
        }
    }
}

/// The algorithms that a reader can undo, with their numbers in the superblock.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[repr(u16)]
pub enum Algorithm {
    /// zlib
    Gzip = 1,
    /// XZ
    Xz = 4,
    /// Zstandard
    Zstd = 6,
}

impl Algorithm {
    /// From the superblock's number; an error names what the number stands for.
    pub fn from_id(id: u16) -> Result<Self, String> {
        match id {
            1 => Ok(Self::Gzip),
            4 => Ok(Self::Xz),
            6 => Ok(Self::Zstd),
            2 => Err("compressed with lzma, which isn't supported".into()),
            3 => Err("compressed with lzo, which isn't supported".into()),
            5 => Err("compressed with lz4, which isn't supported".into()),
            n => Err(format!("unknown compression {n}")),
        }
    }

    /// The trade's name.
    pub fn name(self) -> &'static str {
        match self {
            Self::Gzip => "gzip",
            Self::Xz => "xz",
            Self::Zstd => "zstd",
        }
    }

    /// Unpacks one block into `out`, which has room for the largest allowed result; gives the result's length.
    ///
    /// # Errors
    /// A sentence on what is wrong with the packed bytes; a result that would not fit is one of them.
    pub fn unpack(self, packed: &[u8], out: &mut [u8]) -> Result<usize, String> {
        match self {
            Self::Gzip => {
                libdeflater::Decompressor::new().zlib_decompress(packed, out).map_err(|e| format!("zlib block: {e}"))
            }
            Self::Zstd => {
                thread_local!(static CONTEXT: RefCell<Option<zstd::bulk::Decompressor<'static>>> = const { RefCell::new(None) });
                CONTEXT.with_borrow_mut(|context| {
                    if context.is_none() {
                        *context = Some(zstd::bulk::Decompressor::new().map_err(|e| e.to_string())?);
                    }
                    let context = context.as_mut().ok_or("no zstd context")?;
                    context.decompress_to_buffer(packed, out).map_err(|e| format!("zstd block: {e}"))
                })
            }
            Self::Xz => {
                use liblzma::stream::{Action, Status, Stream};
                // The dictionary is at most one block; the decoder itself needs less than a megabyte.
                let mut stream =
                    Stream::new_stream_decoder(out.len() as u64 + (4 << 20), 0).map_err(|e| e.to_string())?;
                match stream.process(packed, out, Action::Finish) {
                    Ok(Status::StreamEnd) => Ok(stream.total_out() as usize),
                    Ok(_) => Err("xz block: it doesn't end where it should".into()),
                    Err(e) => Err(format!("xz block: {e}")),
                }
            }
        }
    }
}

/// A worker's compressor: made once for a thread, used for many blocks.
#[cfg(feature = "write")]
pub struct Packer {
    codec: Codec,
    block_size: u32,
    deflate: Option<libdeflater::Compressor>,
    zstd: Option<zstd::bulk::Compressor<'static>>,
}

#[cfg(feature = "write")]
impl Packer {
    /// A packer for blocks of up to `block_size` bytes.
    pub fn new(codec: Codec, block_size: u32) -> Self {
        let (mut deflate, mut zstd) = (None, None);
        match codec {
            Codec::Gzip { level } => {
                let level = libdeflater::CompressionLvl::new(level as i32).unwrap_or_default();
                deflate = Some(libdeflater::Compressor::new(level));
            }
            Codec::Zstd { level } => {
                zstd = zstd::bulk::Compressor::new(level as i32).ok();
                // The levels that look matches up in rows of a table: 2^19 entries of 4 bytes stay in a processor's
                // own cache, the 2^21 that a block of 1 MiB gets otherwise don't. A sixth faster, 0.2 % larger.
                let small_table = (6..=12).contains(&level) && block_size >= 1 << 19;
                if let Some(zstd) = zstd.as_mut().filter(|_| small_table) {
                    let _ = zstd.set_parameter(zstd::zstd_safe::CParameter::HashLog(19));
                }
            }
            Codec::Xz { .. } => {}
        }
        Self { codec, block_size, deflate, zstd }
    }

    /// The packed form of `plain`, or `None` when packing does not make it smaller.
    pub fn pack(&mut self, plain: &[u8]) -> Option<Vec<u8>> {
        let packed = match self.codec {
            Codec::Gzip { .. } => {
                let deflate = self.deflate.as_mut()?;
                let mut out = vec![0; deflate.zlib_compress_bound(plain.len())];
                let n = deflate.zlib_compress(plain, &mut out).ok()?;
                out.truncate(n);
                out
            }
            Codec::Zstd { .. } => self.zstd.as_mut()?.compress(plain).ok()?,
            Codec::Xz { level } => {
                use liblzma::stream::{Action, Check, Filters, LzmaOptions, Status, Stream};
                let mut options = LzmaOptions::new_preset(level).ok()?;
                options.dict_size(self.block_size.max(8192));
                let mut filters = Filters::new();
                filters.lzma2(&options);
                let mut stream = Stream::new_stream_encoder(&filters, Check::Crc32).ok()?;
                let mut out = Vec::with_capacity(plain.len() + 1024);
                match stream.process_vec(plain, &mut out, Action::Finish).ok()? {
                    Status::StreamEnd => out,
                    _ => return None,
                }
            }
        };
        (packed.len() < plain.len()).then_some(packed)
    }
}
