//! The program's own file: what it is made of, and whether it is whole.

use crate::files::File;
use crate::system::{code, Fault, Result};
use crate::text::{t, Text};
use alloc::boxed::Box;
use alloc::vec;
use alloc::vec::Vec;
use nsis_archive::header::Header;
use nsis_archive::seal;
use nsis_archive::solid::{Input, Solid};
use nsis_archive::structs::{ALIGNMENT, FIRST_HEADER, SIGN, UNINSTALLER};
use windows_sys::Win32::System::LibraryLoader::GetModuleFileNameW;

/// The data block's bytes, one after the other.
pub struct Part {
    file: File,
    left: u64,
}

impl Input for Part {
    fn read(&mut self, into: &mut [u8]) -> nsis_archive::Result<usize> {
        let n = into.len().min(self.left as usize);
        let n = self.file.read(&mut into[..n]).map_err(|_| nsis_archive::Error::Source)?;
        self.left -= n as u64;
        Ok(n)
    }
}

/// The program's own file, open.
pub struct Package {
    /// Its name.
    pub path: Text,
    /// What stands before the seal: the program itself.
    pub head: Vec<u8>,
    /// Instructions and texts.
    pub header: &'static Header,
    /// The files' bytes.
    pub stream: Solid<Part>,
    /// Where files begin in the stream.
    pub files_at: u64,
    /// Whether it only removes a product.
    pub removes: bool,
    /// The seal, as it stands in the file.
    pub seal: Vec<u8>,
}

/// The name of the running program's file.
pub fn own_path() -> Text {
    let mut buffer = vec![0u16; 32768];
    // SAFETY: the buffer is as long as is said.
    unsafe { GetModuleFileNameW(core::ptr::null_mut(), buffer.as_mut_ptr(), 32768) };
    Text::up_to_zero(&buffer)
}

fn damaged(path: Text) -> Fault {
    Fault::new(code::DAMAGED, t!("setup-damaged"), path)
}

/// Where the program itself ends in its file.
fn end_of_head(start: &[u8]) -> Option<usize> {
    let u16_at = |at: usize| Some(usize::from(u16::from_le_bytes([*start.get(at)?, *start.get(at + 1)?])));
    let u32_at = |at: usize| Some(u16_at(at)? | u16_at(at + 2)? << 16);
    let pe = u32_at(0x3C)?;
    let table = pe + 24 + u16_at(pe + 20)?;
    let mut end = 0;
    for n in 0..u16_at(pe + 6)? {
        let section = table + n * 40;
        end = end.max(u32_at(section + 16)? + u32_at(section + 20)?);
    }
    Some(end.next_multiple_of(ALIGNMENT as usize))
}

impl Package {
    /// Opens the running program's own file and checks it, byte for byte.
    pub fn open() -> Result<Self> {
        let path = own_path();
        let bad = || damaged(path);
        let file = File::open(path)?;
        let size = file.size()?;
        let read = |at: u64, length: usize| -> Result<Vec<u8>> {
            if at + length as u64 > size {
                return Err(bad());
            }
            let mut bytes = vec![0; length];
            file.seek(at)?;
            if file.fill(&mut bytes)? < length {
                return Err(bad());
            }
            Ok(bytes)
        };
        let start = read(0, size.min(4096) as usize)?;
        let head_length = end_of_head(&start).ok_or_else(bad)?;
        let head = read(0, head_length)?;
        let at = head_length as u64 + seal::LENGTH as u64;
        let stated = read(head_length as u64, seal::LENGTH)?;
        let first = read(at, FIRST_HEADER)?;
        if first[4..20] != SIGN {
            return Err(bad());
        }
        let number = |n: usize| u32::from_le_bytes([first[n], first[n + 1], first[n + 2], first[n + 3]]);
        let (header_length, length) = (number(20), u64::from(number(24)));
        if length < FIRST_HEADER as u64 + 4 || at + length > size {
            return Err(bad());
        }
        let mut hash = seal::Hash::default();
        hash.head(&head).map_err(|_| bad())?;
        file.seek(at)?;
        let mut buffer = vec![0; 1 << 16];
        let mut left = length;
        while left > 0 {
            let n = left.min(buffer.len() as u64) as usize;
            let n = file.read(&mut buffer[..n])?;
            if n == 0 {
                return Err(bad());
            }
            hash.update(&buffer[..n]);
            left -= n as u64;
        }
        if hash.seal()[..] != stated[..] {
            return Err(bad());
        }
        file.seek(at + FIRST_HEADER as u64)?;
        let part = Part { file, left: length - FIRST_HEADER as u64 - 4 };
        let broken = |e: nsis_archive::Error| match e {
            nsis_archive::Error::Limit(_) => {
                Fault::new(code::FAILED, t!("setup-failed"), t!("it would need more than 256 MiB of memory"))
            }
            _ => damaged(path),
        };
        let mut stream = Solid::open(part).map_err(broken)?;
        let header = stream.header(header_length).map_err(broken)?;
        let header: &Header = Box::leak(Box::new(Header::parse(&header).map_err(broken)?));
        let files_at = stream.at;
        Ok(Self { path, head, header, stream, files_at, removes: number(0) & UNINSTALLER != 0, seal: stated })
    }

    /// Reads on to a file's offset and gives its length.
    pub fn file_at(&mut self, offset: u32) -> Result<u32> {
        let wanted = self.files_at + u64::from(offset);
        let mut buffer = [0; 512];
        while self.stream.at < wanted {
            let n = (wanted - self.stream.at).min(buffer.len() as u64) as usize;
            self.stream.exact(&mut buffer[..n]).map_err(|_| damaged(self.path))?;
        }
        if self.stream.at != wanted {
            return Err(damaged(self.path));
        }
        self.stream.length().map_err(|_| damaged(self.path))
    }

    /// The next bytes of a file.
    pub fn bytes(&mut self, into: &mut [u8]) -> Result<()> {
        self.stream.exact(into).map_err(|_| damaged(self.path))
    }

    /// A program of the same head with another data block, as the file that removes the product is. What signing changed in
    /// it when it was packed comes first: the places in the head, and the length of the block; the signature itself follows
    /// the block.
    pub fn with_block(&self, stored: &[u8]) -> Result<Vec<u8>> {
        let bad = || damaged(self.path);
        let (before, rest) = stored.split_at_checked(seal::BEFORE_BLOCK).ok_or_else(bad)?;
        let (mut changed, length) = before.split_at(seal::BEFORE_BLOCK - 4);
        let length = u32::from_le_bytes([length[0], length[1], length[2], length[3]]);
        let mut hash = seal::Hash::default();
        let mut head = self.head.clone();
        for (at, length) in seal::changeable(&head).map_err(|_| bad())? {
            let (own, others) = changed.split_at(length);
            head[at..at + length].copy_from_slice(own);
            changed = others;
        }
        hash.head(&head).map_err(|_| bad())?;
        hash.update(rest.get(..length as usize).ok_or_else(bad)?);
        head.extend_from_slice(&hash.seal());
        head.extend_from_slice(rest);
        Ok(head)
    }
}
