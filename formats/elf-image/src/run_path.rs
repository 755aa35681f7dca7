//! Puts folders into a file, in which the loader looks for libraries.

use crate::image::{
    DYNAMIC, ENTRY, INHERITED_PATH, Image, LOAD, NO_BITS, NOTE, OWN_PATH, SECTION, SEGMENT, STRINGS, STRINGS_SIZE,
    Segment,
};
use format_error::{Error, Result};
use read_at::{Overlay, ReadAt};

/// The file with these folders, separated by colons, in place of those that it names: the loader looks there for what it
/// needs, and for what its libraries need. `$ORIGIN` is the file's own folder.
///
/// Where there is room behind the names and in the dynamic section, only a few bytes change. Where there isn't, a segment with both
/// comes behind the file, in place of its last note, which only debuggers read.
///
/// # Errors
/// The file is none that is linked dynamically, is damaged, or has neither room nor a note.
pub fn with_run_path(source: &impl ReadAt, path: &str) -> Result<Overlay<()>> {
    let image = Image::read(source)?;
    let image = image.ok_or_else(|| Error::Usage("it is no ELF file that is linked dynamically".to_owned()))?;
    if path.contains('\0') {
        return Err(Error::Usage("a run path has no zeros".to_owned()));
    }
    let mut file = Overlay::new(());
    file.keep(0, image.size);
    let old = image.linking()?;
    if old.is_inherited && old.run_path.as_deref() == Some(path) {
        return Ok(file);
    }
    let text = [path.as_bytes(), b"\0"].concat();
    match in_place(&image, &text) {
        Some(patches) => patches.iter().for_each(|(at, bytes)| file.patch(*at, bytes)),
        None => behind(&image, &text, &mut file)?,
    }
    Ok(file)
}

/// Bytes that lie over those of a file from some place on.
type Patch = (u64, Vec<u8>);

/// Places of a segment's header, bytes from its start.
const FILE_SIZE_AT: u64 = 32;
const MEMORY_SIZE_AT: u64 = 40;

fn entry(tag: u64, value: u64) -> Vec<u8> {
    [tag.to_le_bytes(), value.to_le_bytes()].concat()
}

fn is_path(tag: u64) -> bool {
    tag == INHERITED_PATH || tag == OWN_PATH
}

/// What changes if there is room for everything.
fn in_place(image: &Image, text: &[u8]) -> Option<Vec<Patch>> {
    let length = text.len() as u64;
    // Behind the last of its entries one has to stay that ends them.
    let spare = image.entries.len() as u64;
    let has_path = image.entries.iter().any(|(tag, _)| is_path(*tag));
    if !has_path && spare + 1 >= image.room {
        return None;
    }
    let holds = |s: &&Segment| {
        let inside = image.strings_address.checked_sub(s.address);
        s.kind == LOAD && s.in_file == s.in_memory && inside.is_some_and(|inside| inside < s.in_file)
    };
    let n = image.segments.iter().position(|segment| holds(&segment))?;
    let segment = &image.segments[n];
    let (end, address) = (segment.end(), segment.end_in_memory());
    // Nothing else may lie there: neither in the file nor in memory.
    let segments = image.segments.iter().filter(|s| s.in_file > 0).map(|s| (s.offset, s.end()));
    let sections = image.sections.iter().filter(|s| s.kind != NO_BITS && s.size > 0);
    let sections = sections.map(|s| (s.offset, s.offset.saturating_add(s.size)));
    let tables = [(image.sections_at, image.sections_at + image.sections.len() as u64 * SECTION)];
    let is_taken = |(from, to): (u64, u64)| from < end.saturating_add(length) && end < to;
    if segments.chain(sections).chain(tables).any(is_taken) || end.saturating_add(length) > image.size {
        return None;
    }
    let page = |address: u64| address - address % segment.align.max(4096);
    let next =
        image.segments.iter().filter(|s| s.kind == LOAD && s.address > segment.address).map(|s| page(s.address)).min();
    if next.is_some_and(|next| address.saturating_add(length) > next) {
        return None;
    }
    let at = address - image.strings_address;
    let header = image.segments_at + n as u64 * SEGMENT;
    let grown = (segment.in_file + length).to_le_bytes().to_vec();
    let mut patches =
        vec![(end, text.to_vec()), (header + FILE_SIZE_AT, grown.clone()), (header + MEMORY_SIZE_AT, grown)];
    for (n, (tag, _)) in image.entries.iter().enumerate() {
        let place = image.dynamic_at + n as u64 * ENTRY;
        if is_path(*tag) {
            patches.push((place, entry(INHERITED_PATH, at)));
        } else if *tag == STRINGS_SIZE {
            patches.push((place, entry(STRINGS_SIZE, at + length)));
        }
    }
    if !has_path {
        patches.push((image.dynamic_at + spare * ENTRY, entry(INHERITED_PATH, at)));
    }
    // Readers that go by sections find the text, too.
    let names = image.sections.iter().position(|section| section.address == image.strings_address && section.size > 0);
    patches.extend(names.map(|n| section_patch(image, n, 32, at + length)));
    Some(patches)
}

/// A field of a section's header.
fn section_patch(image: &Image, n: usize, field: u64, value: u64) -> Patch {
    (image.sections_at + n as u64 * SECTION + field, value.to_le_bytes().to_vec())
}

/// Adds a segment with the names and the dynamic section.
fn behind(image: &Image, text: &[u8], file: &mut Overlay<()>) -> Result<()> {
    let loads = || image.segments.iter().enumerate().filter(|(_, segment)| segment.kind == LOAD);
    let last = loads().map(|(n, _)| n).max().unwrap_or(0);
    // The loader wants segments in the order of their addresses.
    let note = image.segments.iter().rposition(|segment| segment.kind == NOTE).filter(|note| *note > last);
    let note = note.ok_or_else(|| Error::Unsupported("there is no room for a run path in it".to_owned()))?;
    let dynamic = image.segments.iter().position(|segment| segment.kind == DYNAMIC);
    let dynamic = dynamic.ok_or_else(|| Error::Usage("it is not linked dynamically".to_owned()))?;
    let page = loads().map(|(_, segment)| segment.align).fold(4096, u64::max);
    let end = loads().map(|(_, segment)| segment.end_in_memory()).max().unwrap_or(0);
    let offset = image.size.next_multiple_of(8);
    let too_big = || Error::format(image.segments_at, "the segments have no end");
    if !page.is_power_of_two() || page > 1 << 24 {
        return Err(too_big());
    }
    let start =
        end.checked_next_multiple_of(page).and_then(|start| start.checked_add(offset % page)).ok_or_else(too_big)?;
    let mut bytes = [&image.strings, text].concat();
    let names = bytes.len() as u64;
    bytes.resize(bytes.len().next_multiple_of(8), 0);
    let entries_at = bytes.len() as u64;
    let mut has_path = false;
    for (tag, value) in &image.entries {
        bytes.extend(match *tag {
            STRINGS => entry(STRINGS, start),
            STRINGS_SIZE => entry(STRINGS_SIZE, names),
            tag if is_path(tag) => {
                has_path = true;
                entry(INHERITED_PATH, image.strings.len() as u64)
            }
            tag => entry(tag, *value),
        });
    }
    if !has_path {
        bytes.extend(entry(INHERITED_PATH, image.strings.len() as u64));
    }
    bytes.extend(entry(0, 0));
    let (length, entries) = (bytes.len() as u64, bytes.len() as u64 - entries_at);
    // Readable and writable; place in the file, in memory (twice), sizes in both, alignment.
    let header = |kind: u32, at: u64, length: u64, align: u64| {
        let mut header = [kind.to_le_bytes(), 6u32.to_le_bytes()].concat();
        for value in [offset + at, start + at, start + at, length, length, align] {
            header.extend(value.to_le_bytes());
        }
        header
    };
    let place = |n: usize| image.segments_at + n as u64 * SEGMENT;
    file.patch(place(note), &header(LOAD, 0, length, page));
    file.patch(place(dynamic), &header(DYNAMIC, entries_at, entries, 8));
    let old = image.segments[dynamic].address;
    for (n, section) in image.sections.iter().enumerate().filter(|(_, section)| section.size > 0) {
        let moved = match section.address {
            address if address == image.strings_address && address > 0 => (0, names),
            address if address == old && address > 0 => (entries_at, entries),
            _ => continue,
        };
        for (field, value) in [(16, start + moved.0), (24, offset + moved.0), (32, moved.1)] {
            let (at, bytes) = section_patch(image, n, field, value);
            file.patch(at, &bytes);
        }
    }
    file.fill(offset);
    file.add(bytes);
    Ok(())
}
