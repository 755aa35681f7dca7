//! What is on a disk: a GUID partition table, Apple's older partition map, or a bare volume. Only reading knows all
//! three; writing makes the first (UEFI specification 2.10, chapter 5).

use crate::structs::SECTOR;
use crate::{Error, Result};
use read_at::ReadAt;

/// The type of partitions with HFS+: 48465300-0000-11AA-AA11-00306543ECAC.
const HFS: [u8; 16] = *b"\x00SFH\x00\x00\xAA\x11\xAA\x11\x000eC\xEC\xAC";
/// The type of partitions with APFS: 7C3457EF-0000-11AA-AA11-00306543ECAC.
const APFS: [u8; 16] = *b"\xEFW4\x7C\x00\x00\xAA\x11\xAA\x11\x000eC\xEC\xAC";
const ENTRIES: usize = 128;
const ENTRY: usize = 128;

/// What a partition holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Content {
    /// HFS+, HFSX, or the older HFS around one.
    Hfs,
    /// APFS.
    Apfs,
    /// Anything else.
    Other,
}

/// A part of a disk.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Partition {
    /// The first byte.
    pub start: u64,
    /// Bytes.
    pub length: u64,
    /// What the table says it holds; for a bare volume, what it begins with.
    pub content: Content,
    /// Its name.
    pub name: String,
}

/// A table with one partition around a volume.
pub(crate) struct Gpt {
    /// Of the volume.
    pub sectors: u64,
    pub id: [u8; 16],
}

impl Gpt {
    /// The volume's first sector: the table's 34, and six that put it on a block of 4096 bytes.
    pub const START: u64 = 40;

    /// The number as such tables have it: its first three parts turned round.
    fn stored_id(&self) -> [u8; 16] {
        let mut id = self.id;
        id[..4].reverse();
        id[4..6].reverse();
        id[6..8].reverse();
        id
    }

    fn end(&self) -> u64 {
        (Self::START + self.sectors).next_multiple_of(8)
    }

    fn entries(&self) -> Vec<u8> {
        let mut all = vec![0; ENTRIES * ENTRY];
        all[..16].copy_from_slice(&HFS);
        // The partition's own number differs from the disk's in one bit.
        all[16..32].copy_from_slice(&self.stored_id());
        all[16] ^= 1;
        all[32..40].copy_from_slice(&Self::START.to_le_bytes());
        all[40..48].copy_from_slice(&(Self::START + self.sectors - 1).to_le_bytes());
        for (n, unit) in "disk image".encode_utf16().enumerate() {
            all[56 + 2 * n..][..2].copy_from_slice(&unit.to_le_bytes());
        }
        all
    }

    fn header(&self, at: u64, other: u64, table: u64) -> Vec<u8> {
        let mut header = vec![0; SECTOR as usize];
        header[..8].copy_from_slice(b"EFI PART");
        header[8..12].copy_from_slice(&0x0001_0000u32.to_le_bytes());
        header[12..16].copy_from_slice(&92u32.to_le_bytes());
        header[24..32].copy_from_slice(&at.to_le_bytes());
        header[32..40].copy_from_slice(&other.to_le_bytes());
        header[40..48].copy_from_slice(&34u64.to_le_bytes());
        header[48..56].copy_from_slice(&(self.last() - 33).to_le_bytes());
        header[56..72].copy_from_slice(&self.stored_id());
        header[72..80].copy_from_slice(&table.to_le_bytes());
        header[80..84].copy_from_slice(&(ENTRIES as u32).to_le_bytes());
        header[84..88].copy_from_slice(&(ENTRY as u32).to_le_bytes());
        header[88..92].copy_from_slice(&crc32fast::hash(&self.entries()).to_le_bytes());
        let crc = crc32fast::hash(&header[..92]);
        header[16..20].copy_from_slice(&crc.to_le_bytes());
        header
    }

    /// The disk's last sector.
    fn last(&self) -> u64 {
        self.end() + 32
    }

    /// What stands before the volume: name, first sector, bytes.
    pub fn before(&self) -> Vec<(String, u64, Vec<u8>)> {
        let mut mbr = vec![0; SECTOR as usize];
        // One partition of the kind that keeps old tools away.
        let all = u32::try_from(self.last()).unwrap_or(u32::MAX).to_le_bytes();
        mbr[446..462]
            .copy_from_slice(&[0, 0, 2, 0, 0xEE, 0xFF, 0xFF, 0xFF, 1, 0, 0, 0, all[0], all[1], all[2], all[3]]);
        mbr[510..].copy_from_slice(&[0x55, 0xAA]);
        vec![
            ("Protective Master Boot Record (MBR : 0)".into(), 0, mbr),
            ("GPT Header (Primary GPT Header : 1)".into(), 1, self.header(1, self.last(), 2)),
            ("GPT Partition Data (Primary GPT Table : 2)".into(), 2, self.entries()),
            (" (Apple_Free : 3)".into(), 34, vec![0; 6 * SECTOR as usize]),
        ]
    }

    /// What stands behind it.
    pub fn after(&self) -> Vec<(String, u64, Vec<u8>)> {
        let (volume, end) = (Self::START + self.sectors, self.end());
        let mut all = Vec::new();
        if end > volume {
            all.push((" (Apple_Free : 5)".into(), volume, vec![0; ((end - volume) * SECTOR) as usize]));
        }
        all.push(("GPT Partition Data (Backup GPT Table : 6)".into(), end, self.entries()));
        all.push(("GPT Header (Backup GPT Header : 7)".into(), self.last(), self.header(self.last(), 1, end)));
        all
    }
}

fn bytes_at<R: ReadAt, const N: usize>(disk: &R, at: u64) -> Option<[u8; N]> {
    let mut bytes = [0; N];
    disk.read_exact_at(&mut bytes, at).ok().map(|()| bytes)
}

/// What a volume begins with.
fn content<R: ReadAt>(disk: &R, at: u64) -> Content {
    match bytes_at::<R, 2>(disk, at + 1024) {
        Some([b'H', b'+' | b'X'] | [b'B', b'D']) => Content::Hfs,
        _ if bytes_at(disk, at + 32) == Some(*b"NXSB") => Content::Apfs,
        _ => Content::Other,
    }
}

fn gpt<R: ReadAt>(disk: &R, sector: u64) -> Result<Option<Vec<Partition>>> {
    let Some(header) = bytes_at::<R, 92>(disk, sector) else { return Ok(None) };
    if &header[..8] != b"EFI PART" {
        return Ok(None);
    }
    let u32_at = |b: &[u8], at: usize| u32::from_le_bytes(b[at..at + 4].try_into().expect("four"));
    let u64_at = |b: &[u8], at: usize| u64::from_le_bytes(b[at..at + 8].try_into().expect("eight"));
    let (table, count, size) = (u64_at(&header, 72), u32_at(&header, 80), u32_at(&header, 84));
    if count > 1024 || !(128..=4096).contains(&size) {
        return Err(Error::format(sector, format!("a partition table of {count} entries of {size} bytes")));
    }
    let mut all = Vec::new();
    for n in 0..u64::from(count) {
        let at = table.checked_mul(sector).and_then(|t| t.checked_add(n * u64::from(size)));
        let Some(entry) = at.and_then(|at| bytes_at::<R, 128>(disk, at)) else {
            return Err(Error::format(sector, "the partition table ends past the disk"));
        };
        let (first, last) = (u64_at(&entry, 32), u64_at(&entry, 40));
        if entry[..16] == [0; 16] {
            continue;
        }
        let range = first.checked_mul(sector).zip(last.checked_add(1).and_then(|l| l.checked_mul(sector)));
        let (start, end) = range
            .filter(|(s, e)| s < e)
            .ok_or_else(|| Error::format(sector, format!("partition {n} ends before it begins")))?;
        let content = match entry[..16].try_into() {
            Ok(HFS) => Content::Hfs,
            Ok(APFS) => Content::Apfs,
            _ => Content::Other,
        };
        let units: Vec<u16> = entry[56..].chunks_exact(2).map(|u| u16::from_le_bytes([u[0], u[1]])).collect();
        let name = String::from_utf16_lossy(units.split(|u| *u == 0).next().unwrap_or_default());
        all.push(Partition { start, length: end - start, content, name });
    }
    Ok(Some(all))
}

/// Apple's own partition map: an entry a sector, from the second on.
fn map<R: ReadAt>(disk: &R) -> Result<Option<Vec<Partition>>> {
    let mut all = Vec::new();
    let mut count = 1;
    let mut n = 0;
    while n < count {
        let at = SECTOR * (1 + n);
        let Some(entry) = bytes_at::<R, 512>(disk, at).filter(|e| &e[..2] == b"PM") else {
            return if n == 0 { Ok(None) } else { Err(Error::format(at, "the partition map ends too early")) };
        };
        let u32_at = |at: usize| u64::from(u32::from_be_bytes(entry[at..at + 4].try_into().expect("four")));
        if n == 0 {
            count = u32_at(4).min(1024);
        }
        let text = |at: usize| {
            let text = entry[at..at + 32].split(|b| *b == 0).next().unwrap_or_default();
            String::from_utf8_lossy(text).into_owned()
        };
        let content =
            if ["Apple_HFS", "Apple_HFSX"].contains(&text(48).as_str()) { Content::Hfs } else { Content::Other };
        all.push(Partition { start: u32_at(8) * SECTOR, length: u32_at(12) * SECTOR, content, name: text(16) });
        n += 1;
    }
    Ok(Some(all))
}

/// The parts of a disk; one for a bare volume.
///
/// # Errors
/// [`Error::Format`] for a table that makes no sense.
pub fn partitions<R: ReadAt>(disk: &R) -> Result<Vec<Partition>> {
    for sector in [SECTOR, 4096] {
        if let Some(found) = gpt(disk, sector)? {
            return Ok(found);
        }
    }
    if let Some(found) = map(disk)? {
        return Ok(found);
    }
    let length = disk.length()?;
    Ok(vec![Partition { start: 0, length, content: content(disk, 0), name: String::new() }])
}
