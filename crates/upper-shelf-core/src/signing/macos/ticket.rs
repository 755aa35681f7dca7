//! Tickets of Apple's notary: where they lie in a bundle and in a disk image.

use super::code::best;
use super::inside;
use crate::litter::{Litter, PARTIAL};
use crate::problem::{Code, Failure, Kind, Problem};
use code_signature::{Blobs, CdHash, Error, Result, blob, slot};
use std::fs::File;
use std::io::Write;
use std::path::Path;
use udif::signature::SignedParts;

/// Where a bundle has its ticket.
const IN_BUNDLE: &str = "Contents/CodeResources";
/// The longest ticket that is taken, bytes.
pub const LONGEST: u64 = 1 << 20;

/// Something that can have a ticket.
enum Holder {
    Bundle,
    Image(File, Box<SignedParts>, Blobs),
}

fn open(path: &Path) -> Result<(Holder, CdHash)> {
    let unsigned = || Error::Usage("it is not signed, so no ticket can be for it".into());
    if path.is_dir() {
        let (name, tree) = inside::folder(path)?;
        let bundle = tree.bundles().into_iter().find(|bundle| bundle.node == name);
        let main = bundle.and_then(|bundle| bundle.main).ok_or_else(|| Error::Usage("it is no bundle".into()))?;
        let Some(super::tree::Item::File(source)) = tree.0.get(&main) else { return Err(unsigned()) };
        let parts = tree.code(&main)?.ok_or_else(unsigned)?;
        let known = super::code::standing(source, &parts)?.1;
        return Ok((Holder::Bundle, *known.hashes.first().ok_or_else(unsigned)?));
    }
    let file = File::open(path)?;
    let bad = |e: udif::Error| Error::format(0, e.to_string());
    let parts = SignedParts::find(&file).map_err(bad)?;
    let parts = parts.ok_or_else(|| Error::Usage("only bundles and disk images have room for a ticket".into()))?;
    let signature = parts.signature(&file).map_err(bad)?.ok_or_else(unsigned)?;
    let blobs = Blobs::read(&signature)?;
    let (directory, own) = best(&blobs).ok_or_else(unsigned)?;
    let hash = directory.cd_hash(own);
    Ok((Holder::Image(file, Box::new(parts), blobs), hash))
}

fn refused(path: &Path, e: Error) -> Failure {
    match e {
        Error::Io(e) => Failure::io("can't read", path, e),
        other => {
            let problem = Problem::error(Code::NotSignable, format!("{} can't have a ticket", path.display())).on(path);
            Failure::new(Kind::Package, problem.why(other.to_string()))
        }
    }
}

/// What a ticket has to be for.
///
/// # Errors
/// It is not signed, or is nothing that has room for a ticket.
pub fn wanted(path: &Path) -> std::result::Result<CdHash, Failure> {
    open(path).map(|(_, hash)| hash).map_err(|e| refused(path, e))
}

/// Whether there is one.
pub fn is_there(path: &Path) -> bool {
    match open(path) {
        Ok((Holder::Bundle, _)) => path.join(IN_BUNDLE).is_file(),
        Ok((Holder::Image(_, _, blobs), _)) => blobs.part(slot::TICKET).is_some(),
        Err(_) => false,
    }
}

/// Puts a ticket into a bundle or an image, in the place of one that is there; nothing that is signed changes.
///
/// # Errors
/// It is not signed, or can't be written.
pub fn put(path: &Path, ticket: &[u8]) -> std::result::Result<(), Failure> {
    let (holder, _) = open(path).map_err(|e| refused(path, e))?;
    let trouble = |e: std::io::Error| Failure::io("can't write", path, e);
    let place = match &holder {
        Holder::Bundle => path.join(IN_BUNDLE),
        Holder::Image(..) => path.to_owned(),
    };
    let name = place.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let beside = place.with_file_name(format!(".{name}{PARTIAL}"));
    let litter = Litter::file(&beside);
    let mut out = File::options().read(true).write(true).create(true).truncate(true).open(&beside).map_err(trouble)?;
    match holder {
        Holder::Bundle => out.write_all(ticket).map_err(trouble)?,
        Holder::Image(mut file, parts, mut blobs) => {
            std::io::Seek::rewind(&mut file).map_err(trouble)?;
            std::io::copy(&mut file, &mut out).map_err(trouble)?;
            blobs.parts.retain(|(number, _)| *number != slot::TICKET);
            blobs.parts.push((slot::TICKET, blob(ticket)));
            parts.put(&mut out, &blobs.to_bytes()).map_err(|e| match e {
                udif::Error::Io(e) => trouble(e),
                other => refused(path, Error::Usage(other.to_string())),
            })?;
            let modes = file.metadata().map_err(trouble)?.permissions();
            out.set_permissions(modes).map_err(trouble)?;
        }
    }
    out.sync_all().map_err(trouble)?;
    std::fs::rename(&beside, &place).map_err(|e| Failure::io("can't replace", &place, e))?;
    litter.keep();
    Ok(())
}
