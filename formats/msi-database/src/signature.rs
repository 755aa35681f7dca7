//! Where the signature of an installer package stands, and which of its bytes it signs.
//!
//! The signature is a stream of the root; a second stream holds a digest of what the directory says (names, sizes, class
//! identifiers, dates), so that streams can't change places. Source of the facts: the published behaviour of the system's
//! own reader, as far as other readers confirm it: the extended form is judged by one of them.

use crate::compound::{Compound, CompoundWriter};
use crate::{Error, Result};
use std::io::{Read, Seek, Write};

/// The stream that holds the signature.
pub const SIGNATURE: &str = "\u{5}DigitalSignature";
/// The stream that holds the digest of the directory.
pub const EXTENDED: &str = "\u{5}MsiDigitalSignatureEx";
/// The longest signature that is read, bytes.
const LONGEST: u64 = 1 << 20;

/// Streams in the order in which they are signed: by the bytes of their names.
fn signed<R: Read + Seek>(package: &Compound<R>) -> Vec<(Vec<u8>, usize)> {
    let streams = package.streams().iter().enumerate();
    let streams = streams.filter(|(_, stream)| ![SIGNATURE, EXTENDED].contains(&stream.name.as_str()));
    let mut all: Vec<(Vec<u8>, usize)> =
        streams.map(|(n, stream)| (stream.name.encode_utf16().flat_map(u16::to_le_bytes).collect(), n)).collect();
    all.sort();
    all
}

/// Which directory is meant.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Directory {
    /// The one that is there.
    AsItIs,
    /// The one that [`put`] will write: without dates and notes.
    AsWritten,
}

/// Gives out what the directory says, whose digest stands in [`EXTENDED`].
pub fn feed_directory<R: Read + Seek>(package: &Compound<R>, which: Directory, mut take: impl FnMut(&[u8])) {
    let as_it_is = which == Directory::AsItIs;
    take(&package.clsid);
    take(if as_it_is { &package.state } else { &[0; 4] });
    for (name, n) in signed(package) {
        let stream = &package.streams()[n];
        take(&name);
        take(&(stream.size as u32).to_le_bytes());
        take(if as_it_is { &stream.state } else { &[0; 4] });
        take(if as_it_is { &stream.dates } else { &[0; 16] });
    }
}

/// Gives out all bytes that are signed: the digest of the directory first, where there is one.
///
/// # Errors
/// A stream can't be read, or streams lie in storages of their own: such packages are not signed here.
pub fn feed<R: Read + Seek>(
    package: &mut Compound<R>,
    extended: Option<&[u8]>,
    mut take: impl FnMut(&[u8]),
) -> Result<()> {
    if package.has_storages {
        return Err(Error::Unsupported("it has storages inside of others, whose signatures are not read".into()));
    }
    extended.into_iter().for_each(&mut take);
    let mut buffer = vec![0; 1 << 16];
    for (_, n) in signed(package) {
        let name = package.streams()[n].name.clone();
        let mut stream = package.stream(&name)?.ok_or_else(|| Error::format(0, "a stream is gone"))?;
        loop {
            match stream.read(&mut buffer)? {
                0 => break,
                more => take(&buffer[..more]),
            }
        }
    }
    take(&package.clsid);
    Ok(())
}

/// What signs a package.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Signature {
    /// The signed message.
    pub message: Vec<u8>,
    /// The digest of the directory, if that is signed too.
    pub directory: Option<Vec<u8>>,
}

/// The signature of a package.
///
/// # Errors
/// It can't be read.
pub fn signature<R: Read + Seek>(package: &mut Compound<R>) -> Result<Option<Signature>> {
    let Some(message) = package.bytes(SIGNATURE, LONGEST)? else { return Ok(None) };
    Ok(Some(Signature { message, directory: package.bytes(EXTENDED, 64)? }))
}

/// Puts a signature and the digest of the directory into a package that was written here, in place: what comes out is what [`put`]
/// writes, without the streams being copied. `file` is the file that `package` is read from; it ends behind what was written, and
/// its new length is given. None for a package that is laid out in another way: nothing has changed.
///
/// # Errors
/// The package can't be read, or written: then the file is no package any more.
pub fn put_in_place<R: Read + Seek, O: Read + Write + Seek>(
    package: &mut Compound<R>,
    file: O,
    (signature, extended): (&[u8], &[u8]),
) -> Result<Option<u64>> {
    let Some(mut writer) = CompoundWriter::take_up(file, package, &[SIGNATURE, EXTENDED])? else { return Ok(None) };
    writer.stream(EXTENDED, extended)?;
    writer.stream(SIGNATURE, signature)?;
    writer.finish().map(|(_, length)| Some(length))
}

/// Writes a package anew, with a signature and the digest of its directory, or without. All other streams stay as they are.
///
/// # Errors
/// The package can't be read, or written.
pub fn put<R: Read + Seek, O: Read + Write + Seek>(
    package: &mut Compound<R>,
    out: O,
    signature: Option<(&[u8], &[u8])>,
) -> Result<O> {
    if package.has_storages {
        return Err(Error::Unsupported("it has storages inside of others, and is not written anew".into()));
    }
    let mut writer = CompoundWriter::new(out, package.clsid)?;
    // In the order of the file, so that ours keep their form.
    let mut names: Vec<(u64, String)> = package.streams().iter().map(|s| (s.place(), s.name.clone())).collect();
    names.sort();
    for (_, name) in names.into_iter().filter(|(_, name)| ![SIGNATURE, EXTENDED].contains(&name.as_str())) {
        let mut stream = package.stream(&name)?.ok_or_else(|| Error::format(0, "a stream is gone"))?;
        writer.large(&name, |out| std::io::copy(&mut stream, out).map(drop).map_err(Error::from))?;
    }
    if let Some((signature, extended)) = signature {
        writer.stream(EXTENDED, extended)?;
        writer.stream(SIGNATURE, signature)?;
    }
    writer.finish().map(|(out, _)| out)
}
