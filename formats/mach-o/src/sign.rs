//! Where a signature goes in a Mach-O file: behind everything else of each processor's part, where a load command names it.
//!
//! Source: Apple's open headers `mach-o/loader.h` and `mach-o/fat.h`.

use crate::join::alignment;
use crate::read::{FileKind, Processor, Slice, read};
use crate::{Error, Result, Version};
use read_at::{Overlay, Part, ReadAt};

/// `LC_CODE_SIGNATURE`.
const SIGNATURE: u32 = 0x1D;
/// `LC_SEGMENT`, `LC_SEGMENT_64`.
const SEGMENT: u32 = 1;
const SEGMENT_64: u32 = 0x19;
/// The longest signature that is read: that of a program of 4 GiB has 32 MiB of digests.
const LONGEST: u32 = 64 << 20;
/// A signature begins at a multiple of it, and its length is one.
const ALIGNMENT: u64 = 16;

/// The last segment, whose length says how long the part is.
#[derive(Debug, Clone)]
struct Last {
    /// Where its command stands.
    command: u64,
    wide: bool,
    /// Where its content begins.
    from: u64,
}

/// The part for one processor, as far as its signature goes.
#[derive(Debug, Clone)]
pub struct SignedSlice {
    /// What it says of itself.
    pub slice: Slice,
    /// How many of its bytes are signed: where its signature begins.
    pub limit: u64,
    /// Where its executable segment begins, and how long it is.
    pub executable: (u64, u64),
    /// Where the command that names the signature stands, and whether it is there already.
    command: (u64, bool),
    /// Load commands: how many, and their bytes.
    commands: (u32, u32),
    last: Last,
    /// As a power of two.
    align: u32,
}

/// A Mach-O file, as far as its signatures go.
#[derive(Debug, Clone)]
pub struct SignedParts {
    /// Its parts, in the file's order.
    pub slices: Vec<SignedSlice>,
    /// The first word of a universal file.
    universal: Option<u32>,
}

fn bytes<const N: usize, R: ReadAt>(source: &R, at: u64) -> Result<[u8; N]> {
    let mut bytes = [0; N];
    source.read_exact_at(&mut bytes, at).map_err(|_| Error::format(at, "the file ends too early"))?;
    Ok(bytes)
}

fn number<R: ReadAt>(source: &R, at: u64) -> Result<u32> {
    Ok(u32::from_le_bytes(bytes(source, at)?))
}

fn wide<R: ReadAt>(source: &R, at: u64) -> Result<u64> {
    Ok(u64::from_le_bytes(bytes(source, at)?))
}

/// `slice` was read before: its commands are what they say.
fn find<R: ReadAt>(source: &R, slice: Slice, align: u32) -> Result<SignedSlice> {
    let part = Part::new(source, slice.offset, slice.size)?;
    let unsupported = |what: &str| Error::Unsupported(format!("{what} ({})", slice.processor));
    let header = match bytes::<4, _>(&part, 0)? {
        [0xCF, 0xFA, 0xED, 0xFE] => 32,
        [0xCE, 0xFA, 0xED, 0xFE] => 28,
        _ => return Err(unsupported("code for a processor that no signature is made for")),
    };
    if !matches!(slice.kind, FileKind::Program | FileKind::Library | FileKind::Bundle) {
        return Err(Error::Usage("it is neither a program nor a library".into()));
    }
    let (count, length) = (number(&part, 16)?, number(&part, 20)?);
    let (mut at, mut last, mut executable, mut command) = (header, None, None, None);
    for _ in 0..count {
        let (kind, size) = (number(&part, at)?, number(&part, at + 4)?);
        if size < 8 {
            return Err(Error::format(slice.offset + at, "a load command is too short"));
        }
        let wide_one = kind == SEGMENT_64;
        if wide_one || kind == SEGMENT {
            let name: [u8; 16] = bytes(&part, at + 8)?;
            let (from, length) = if wide_one {
                (wide(&part, at + 40)?, wide(&part, at + 48)?)
            } else {
                (number(&part, at + 32)?.into(), number(&part, at + 36)?.into())
            };
            match name.split(|b| *b == 0).next() {
                Some(b"__TEXT") => executable = Some((from, length)),
                Some(b"__LINKEDIT") => last = Some((Last { command: at, wide: wide_one, from }, length)),
                _ => {}
            }
        } else if kind == SIGNATURE {
            command = Some((at, u64::from(number(&part, at + 8)?), u64::from(number(&part, at + 12)?)));
        }
        at += u64::from(size);
    }
    let Some((last, length_of_last)) = last else { return Err(unsupported("it has no segment that could hold one")) };
    let end = last.from.checked_add(length_of_last);
    if end.is_none_or(|end| end > slice.size || slice.size - end >= ALIGNMENT) {
        return Err(unsupported("something stands behind its last segment"));
    }
    let (limit, command) = match command {
        Some((place, from, size)) => {
            if from.checked_add(size) != end || from < last.from || !from.is_multiple_of(8) {
                return Err(unsupported("its signature does not end it"));
            }
            (from, (place, true))
        }
        None => {
            if slice.room < 16 {
                return Err(unsupported("its headers have no room for a signature"));
            }
            (slice.size.next_multiple_of(ALIGNMENT), (at, false))
        }
    };
    let executable = executable.unwrap_or_default();
    Ok(SignedSlice { slice, limit, executable, command, commands: (count, length), last, align })
}

impl SignedSlice {
    /// Which processor it is for.
    pub fn processor(&self) -> Processor {
        self.slice.processor
    }

    /// What it was built against.
    pub fn sdk(&self) -> Option<Version> {
        self.slice.sdk
    }

    /// The bytes of the signature that it has.
    ///
    /// # Errors
    /// The medium's; [`Error::Limit`] for one that is longer than any.
    pub fn signature<R: ReadAt>(&self, source: &R) -> Result<Option<Vec<u8>>> {
        let Some((from, length)) = self.slice.signature else { return Ok(None) };
        if length > LONGEST {
            return Err(Error::Limit(format!("a signature of {length} bytes")));
        }
        let mut bytes = vec![0; (length as u64).min(self.slice.size) as usize];
        source.read_exact_at(&mut bytes, self.slice.offset + u64::from(from))?;
        Ok(Some(bytes))
    }

    /// How long a place is that holds a signature of so many bytes.
    pub fn place_for(length: usize) -> u64 {
        (length as u64).next_multiple_of(ALIGNMENT)
    }

    /// What will be signed: this part, with headers that name a signature of so many bytes.
    ///
    /// # Errors
    /// [`Error::Limit`] above 4 GiB.
    pub fn to_sign<R: ReadAt>(&self, source: R, place: u64) -> Result<Overlay<R>> {
        let mut out = Overlay::new(source);
        self.add(&mut out, place)?;
        Ok(out)
    }

    /// Adds what is signed.
    fn add<R>(&self, out: &mut Overlay<R>, place: u64) -> Result<()> {
        let too_long = |_| Error::Limit("a signed program for one processor has up to 4 GiB".into());
        let (from, length) = (u32::try_from(self.limit).map_err(too_long)?, u32::try_from(place).map_err(too_long)?);
        let start = out.size();
        out.keep(self.slice.offset, self.slice.size.min(self.limit));
        out.fill(start + self.limit);
        let mut patch = |at: u64, words: &[u32]| {
            let bytes: Vec<u8> = words.iter().flat_map(|word| word.to_le_bytes()).collect();
            out.patch(start + at, &bytes);
        };
        let (at, is_there) = self.command;
        patch(at, &[SIGNATURE, 16, from, length]);
        if !is_there {
            patch(16, &[self.commands.0 + 1, self.commands.1 + 16]);
        }
        let size = self.limit + place - self.last.from;
        let page = if self.slice.processor.0 == Processor::ARM64.0 { 0x4000 } else { 0x1000 };
        let mapped = size.next_multiple_of(page);
        let at = self.last.command;
        if self.last.wide {
            out.patch(start + at + 32, &mapped.to_le_bytes());
            out.patch(start + at + 48, &size.to_le_bytes());
        } else {
            patch(at + 28, &[u32::try_from(mapped).map_err(too_long)?]);
            patch(at + 36, &[u32::try_from(size).map_err(too_long)?]);
        }
        Ok(())
    }
}

impl SignedParts {
    /// Finds where signatures go; nothing for what is no Mach-O file.
    ///
    /// # Errors
    /// [`Error::Format`] for one that is damaged, [`Error::Unsupported`] for one that has no place for a signature,
    /// [`Error::Usage`] for one that is none of a program and needs none.
    pub fn find<R: ReadAt>(source: &R) -> Result<Option<Self>> {
        let Some(file) = read(source)? else { return Ok(None) };
        let universal = file.universal.then(|| bytes(source, 0).map(u32::from_be_bytes)).transpose()?;
        let mut slices = Vec::new();
        for (n, slice) in file.slices.into_iter().enumerate() {
            let align = match universal {
                None => 0,
                // The last word of an entry, before a spare one in the wide form.
                Some(0xCAFE_BABE) => u32::from_be_bytes(bytes(source, 8 + 20 * n as u64 + 16)?),
                Some(_) => u32::from_be_bytes(bytes(source, 8 + 32 * n as u64 + 24)?),
            };
            let align = if align > 15 { alignment(slice.processor) } else { align };
            slices.push(find(source, slice, align)?);
        }
        if slices.is_empty() {
            return Err(Error::Unsupported("a universal file without any part".into()));
        }
        Ok(Some(Self { slices, universal }))
    }

    /// Whether there is nothing but zeros between the parts of a universal file, and behind the last one: nothing signs that.
    ///
    /// # Errors
    /// The medium's.
    pub fn has_empty_gaps<R: ReadAt>(&self, source: &R) -> Result<bool> {
        let Some(magic) = self.universal else { return Ok(true) };
        let mut parts: Vec<(u64, u64)> =
            self.slices.iter().map(|part| (part.slice.offset, part.slice.offset + part.slice.size)).collect();
        parts.sort_unstable();
        let table = 8 + self.slices.len() as u64 * if magic == 0xCAFE_BABE { 20 } else { 32 };
        parts.push((source.length()?, 0));
        let mut buffer = vec![0; 1 << 16];
        let mut at = table;
        for (start, end) in parts {
            while at < start {
                let n = (start - at).min(buffer.len() as u64) as usize;
                source.read_exact_at(&mut buffer[..n], at)?;
                if buffer[..n].iter().any(|byte| *byte != 0) {
                    return Ok(false);
                }
                at += n as u64;
            }
            at = at.max(end);
        }
        Ok(true)
    }

    /// The file with these signatures, one for each part: their places, and their bytes, which are filled up with zeros.
    ///
    /// # Errors
    /// [`Error::Limit`] above 4 GiB.
    pub fn signed<R>(&self, source: R, signatures: &[(u64, Vec<u8>)]) -> Result<Overlay<R>> {
        let mut out = Overlay::new(source);
        let mut table = Vec::new();
        if let Some(magic) = self.universal {
            let is_wide = magic != 0xCAFE_BABE;
            let mut end = 8 + self.slices.len() as u64 * if is_wide { 32 } else { 20 };
            table.extend(magic.to_be_bytes());
            table.extend((self.slices.len() as u32).to_be_bytes());
            for (part, (place, _)) in self.slices.iter().zip(signatures) {
                let start = end.next_multiple_of(1 << part.align);
                end = start + part.limit + place;
                let Processor(kind, of_kind) = part.slice.processor;
                table.extend(kind.to_be_bytes());
                table.extend(of_kind.to_be_bytes());
                if is_wide {
                    table.extend(start.to_be_bytes());
                    table.extend((end - start).to_be_bytes());
                } else {
                    let too_long = |_| Error::Limit("a universal file has up to 4 GiB".into());
                    table.extend(u32::try_from(start).map_err(too_long)?.to_be_bytes());
                    table.extend(u32::try_from(end - start).map_err(too_long)?.to_be_bytes());
                }
                table.extend(part.align.to_be_bytes());
                if is_wide {
                    table.extend([0; 4]);
                }
            }
        }
        out.add(table);
        for (part, (place, signature)) in self.slices.iter().zip(signatures) {
            if self.universal.is_some() {
                out.fill(out.size().next_multiple_of(1 << part.align));
            }
            part.add(&mut out, *place)?;
            let end = out.size() + place;
            out.add(signature.clone());
            out.fill(end);
        }
        Ok(out)
    }
}
