//! Packing and unpacking of single chunks: pure functions from bytes to bytes.

use crate::structs::chunk;
use std::io::{Read, Write};

/// How chunks are packed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Codec {
    /// Read by everything; levels 1 to 12.
    Zlib(u8),
    /// Smaller, slower to read; levels 1 to 9.
    Bzip2(u8),
    /// Quick to read; systems since OS X 10.11.
    Lzfse,
    /// As it is.
    Raw,
}

impl Codec {
    /// The kind of chunk that it makes.
    pub fn kind(self) -> u32 {
        match self {
            Self::Zlib(_) => chunk::ZLIB,
            Self::Bzip2(_) => chunk::BZIP2,
            Self::Lzfse => chunk::LZFSE,
            Self::Raw => chunk::RAW,
        }
    }
}

/// A worker's own room to work in.
pub struct Packer {
    codec: Codec,
    deflate: Option<libdeflater::Compressor>,
    lzfse: lzfse_rust::LzfseEncoder,
}

impl Packer {
    /// For one thread.
    pub fn new(codec: Codec) -> Self {
        let level = |level: u8| libdeflater::CompressionLvl::new(i32::from(level.clamp(1, 12))).unwrap_or_default();
        let deflate = match codec {
            Codec::Zlib(n) => Some(libdeflater::Compressor::new(level(n))),
            _ => None,
        };
        Self { codec, deflate, lzfse: lzfse_rust::LzfseEncoder::default() }
    }

    /// The kind of chunk that it makes.
    pub fn kind(&self) -> u32 {
        self.codec.kind()
    }

    /// The packed bytes; nothing where packing does not make them fewer.
    pub fn pack(&mut self, bytes: &[u8]) -> Option<Vec<u8>> {
        let mut out = Vec::new();
        match (self.codec, &mut self.deflate) {
            (Codec::Zlib(_), Some(deflate)) => {
                out.resize(deflate.zlib_compress_bound(bytes.len()), 0);
                let n = deflate.zlib_compress(bytes, &mut out).ok()?;
                out.truncate(n);
            }
            (Codec::Bzip2(level), _) => {
                let level = bzip2::Compression::new(u32::from(level.clamp(1, 9)));
                let mut writer = bzip2::write::BzEncoder::new(&mut out, level);
                writer.write_all(bytes).and_then(|()| writer.finish().map(drop)).ok()?;
            }
            (Codec::Lzfse, _) => drop(self.lzfse.encode_bytes(bytes, &mut out).ok()?),
            _ => return None,
        }
        (out.len() < bytes.len()).then_some(out)
    }
}

/// Unpacks a chunk that has so many bytes; nothing if it does not give exactly those.
pub fn unpack(kind: u32, packed: &[u8], length: usize) -> Option<Vec<u8>> {
    let mut out = Vec::new();
    let mut exactly = |reader: &mut dyn Read| {
        // One more than there should be shows that there is more.
        reader.take(length as u64 + 1).read_to_end(&mut out).ok()
    };
    match kind {
        chunk::ZERO | chunk::IGNORED => out.resize(length, 0),
        chunk::RAW => out.extend(packed),
        chunk::ZLIB => {
            out.resize(length, 0);
            let n = libdeflater::Decompressor::new().zlib_decompress(packed, &mut out).ok()?;
            out.truncate(n);
        }
        chunk::BZIP2 => drop(exactly(&mut bzip2::read::BzDecoder::new(packed))?),
        chunk::LZMA => drop(exactly(&mut liblzma::read::XzDecoder::new(packed))?),
        chunk::LZFSE => {
            let mut limited = Limited { out: &mut out, left: length };
            let mut decoder = lzfse_rust::LzfseRingDecoder::default();
            decoder.decode(&mut &packed[..], &mut limited).ok()?;
        }
        chunk::ADC => out = adc(packed, length)?,
        _ => return None,
    }
    (out.len() == length).then_some(out)
}

/// Takes so many bytes and not one more.
struct Limited<'l> {
    out: &'l mut Vec<u8>,
    left: usize,
}

impl Write for Limited<'_> {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.left = self.left.checked_sub(bytes.len()).ok_or(std::io::ErrorKind::InvalidData)?;
        self.out.extend(bytes);
        Ok(bytes.len())
    }
    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

/// ADC: runs of bytes as they are (0x80 + length - 1), and repetitions of what came before, with a distance of ten bits
/// (length - 3 in four bits) or of sixteen (0x40 + length - 4).
fn adc(packed: &[u8], length: usize) -> Option<Vec<u8>> {
    let mut out: Vec<u8> = Vec::new();
    let mut at = 0;
    while at < packed.len() && out.len() < length {
        let first = packed[at];
        if first & 0x80 != 0 {
            let n = usize::from(first & 0x7F) + 1;
            out.extend(packed.get(at + 1..at + 1 + n)?);
            at += 1 + n;
            continue;
        }
        let next = usize::from(*packed.get(at + 1)?);
        let (n, back) = if first & 0x40 != 0 {
            let back = next << 8 | usize::from(*packed.get(at + 2)?);
            at += 3;
            (usize::from(first & 0x3F) + 4, back)
        } else {
            at += 2;
            (usize::from(first >> 2 & 0x0F) + 3, usize::from(first & 3) << 8 | next)
        };
        let from = out.len().checked_sub(back + 1)?;
        // What is repeated may go on into what it makes.
        for n in from..from + n {
            out.push(out[n]);
        }
    }
    Some(out)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_codec_gives_back_what_it_took_and_nothing_else() {
        let text: Vec<u8> = b"queen, comb, frame; ".repeat(5000);
        for codec in [Codec::Zlib(1), Codec::Zlib(12), Codec::Bzip2(9), Codec::Lzfse] {
            let packed = Packer::new(codec).pack(&text).expect("smaller");
            assert_eq!(unpack(codec.kind(), &packed, text.len()).as_ref(), Some(&text), "{codec:?}");
            for wrong in [text.len() - 1, text.len() + 1, 0] {
                assert_eq!(unpack(codec.kind(), &packed, wrong), None, "{codec:?} {wrong}");
            }
            assert_eq!(unpack(codec.kind(), &packed[..packed.len() / 2], text.len()), None, "{codec:?}, cut");
        }
        assert_eq!(Packer::new(Codec::Raw).pack(&text), None);
    }

    #[test]
    fn adc_repeats_what_came_before() {
        // "ab", then five bytes from two back, then four from a distance of sixteen bits.
        let packed = [0x81, b'a', b'b', 0x08, 0x01, 0x40, 0x00, 0x06];
        assert_eq!(adc(&packed, 11).expect("text"), b"abababaabab");
        assert_eq!(adc(&[0x08, 0x01], 5), None, "nothing came before");
    }
}
