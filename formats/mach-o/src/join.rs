//! Files for one processor each become one for all.

use crate::read::{Processor, Slice, read};
use crate::{Error, Result};
use read_at::{Cursor, ReadAt};
use std::io::Write;

/// How a part is aligned, as a power of two: by the size of the processor's pages.
pub(crate) fn alignment(processor: Processor) -> u32 {
    if processor.0 == Processor::ARM64.0 { 14 } else { 12 }
}

/// Where everything of a universal file stands.
struct Layout<'f, R> {
    /// Parts with their files and where they begin, in order.
    parts: Vec<(Slice, &'f R, u64)>,
    /// The table at its beginning.
    table: Vec<u8>,
    /// Where it ends.
    end: u64,
}

fn layout<R: ReadAt>(files: &[R]) -> Result<Layout<'_, R>> {
    let mut parts = Vec::new();
    for (n, source) in files.iter().enumerate() {
        let file = read(source)?.ok_or_else(|| Error::Usage(format!("file {} isn't a Mach-O file", n + 1)))?;
        parts.extend(file.slices.into_iter().map(|s| (s, source, 0)));
    }
    parts.sort_by_key(|(slice, ..)| (alignment(slice.processor), slice.processor));
    let same = |a: Processor, b: Processor| (a.0, a.1 & 0x00FF_FFFF) == (b.0, b.1 & 0x00FF_FFFF);
    if let Some(pair) = parts.windows(2).find(|p| same(p[0].0.processor, p[1].0.processor)) {
        return Err(Error::Usage(format!("two files are for {}", pair[0].0.processor)));
    }
    let mut table = 0xCAFE_BABEu32.to_be_bytes().to_vec();
    table.extend((parts.len() as u32).to_be_bytes());
    let mut end = 8 + 20 * parts.len() as u64;
    for (slice, _, start) in &mut parts {
        let align = alignment(slice.processor);
        *start = end.next_multiple_of(1 << align);
        end = *start + slice.size;
        let too_large = |_| Error::Limit("a universal file has up to 4 GiB".into());
        let (from, size) = (u32::try_from(*start).map_err(too_large)?, u32::try_from(slice.size).map_err(too_large)?);
        for word in [slice.processor.0, slice.processor.1, from, size, align] {
            table.extend(word.to_be_bytes());
        }
    }
    Ok(Layout { parts, table, end })
}

/// The bytes that a universal file of these files' parts will have.
///
/// # Errors
/// As [`join`].
pub fn joined_size<R: ReadAt>(files: &[R]) -> Result<u64> {
    Ok(layout(files)?.end)
}

/// A universal file of these files' parts, to be read at any place; nothing of it is copied.
pub struct Joined<R> {
    files: Vec<R>,
    table: Vec<u8>,
    /// Of each part: where it begins, its length, which file it is from, and where it begins there.
    parts: Vec<(u64, u64, usize, u64)>,
    end: u64,
}

impl<R: ReadAt> Joined<R> {
    /// Of these files. Their order does not matter: ARM comes last, as the trade has it.
    ///
    /// # Errors
    /// [`Error::Usage`] for a file that is no Mach-O, or a processor that is there twice; [`Error::Limit`] above 4 GiB.
    pub fn new(files: Vec<R>) -> Result<Self> {
        let Layout { parts, table, end } = layout(&files)?;
        let index = |source: &R| files.iter().position(|file| std::ptr::eq(file, source)).unwrap_or_default();
        let parts = parts.iter().map(|(s, source, start)| (*start, s.size, index(source), s.offset)).collect();
        Ok(Self { parts, table, end, files })
    }
}

impl<R: ReadAt> ReadAt for Joined<R> {
    fn read_exact_at(&self, buffer: &mut [u8], offset: u64) -> std::io::Result<()> {
        let over = offset.checked_add(buffer.len() as u64).filter(|over| *over <= self.end);
        let over = over.ok_or(std::io::ErrorKind::UnexpectedEof)?;
        buffer.fill(0);
        // What of a part, or of the table, lies in what is asked for.
        let inside = |start: u64, length: u64| {
            let (from, to) = (offset.max(start), over.min(start + length));
            (from < to).then(|| ((from - offset) as usize..(to - offset) as usize, from - start))
        };
        if let Some((place, from)) = inside(0, self.table.len() as u64) {
            let n = place.len();
            buffer[place].copy_from_slice(&self.table[from as usize..from as usize + n]);
        }
        for &(start, length, file, at) in &self.parts {
            if let Some((place, from)) = inside(start, length) {
                self.files[file].read_exact_at(&mut buffer[place], at + from)?;
            }
        }
        Ok(())
    }

    fn length(&self) -> std::io::Result<u64> {
        Ok(self.end)
    }
}

/// Writes a universal file of these files' parts. Their order does not matter: ARM comes last, as the trade has it.
///
/// # Errors
/// As [`Joined::new`], and the medium's.
pub fn join<R: ReadAt>(files: &[R], mut out: impl Write) -> Result<()> {
    let files: Vec<&R> = files.iter().collect();
    std::io::copy(&mut Cursor::new(Joined::new(files)?), &mut out)?;
    Ok(())
}
