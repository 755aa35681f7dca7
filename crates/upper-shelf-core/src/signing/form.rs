//! Where signatures stand in a file, and what of it they sign: programs and installer packages of Windows.

use super::{Certificate, Hash};
use crate::app_manifest::AppManifest;
use msi_database::compound::{Compound, Limits};
use msi_database::signature::{self, Directory};
use pe_image::SignedParts;
use signatures::authenticode::Subject;
use std::fs::File;
use std::io::{Read, Seek, SeekFrom};
use std::path::Path;

type Result<T> = std::result::Result<T, pe_image::Error>;

/// A file whose signatures are read or written.
pub enum Form {
    /// A program or a library.
    Program(File, SignedParts),
    /// An installer package.
    Installer(Box<Compound<File>>),
    /// A package that Windows installs by itself, or a bundle of them.
    Package(Box<opc::read::Package<File>>),
}

/// How compound files begin.
const COMPOUND: [u8; 4] = [0xD0, 0xCF, 0x11, 0xE0];

impl Form {
    /// Opens a file by what it is.
    pub fn open(path: &Path) -> Result<Self> {
        let mut file = File::open(path)?;
        let mut begin = [0; 4];
        let mut n = 0;
        while n < begin.len() {
            match file.read(&mut begin[n..])? {
                0 => break,
                more => n += more,
            }
        }
        file.seek(SeekFrom::Start(0))?;
        if begin == COMPOUND {
            return Ok(Self::Installer(Box::new(Compound::open(file, Limits::default())?)));
        }
        if begin == *b"PK\x03\x04" {
            // Any other archive has no place for a signature.
            let package = opc::read::Package::open(file.try_clone()?, opc::read::Limits::default()).ok();
            if let Some(package) = package.filter(|package| manifest_of(package).is_some()) {
                return Ok(Self::Package(Box::new(package)));
            }
        }
        if &begin[..2] != b"MZ" {
            let what = "neither a program nor an installer package for Windows";
            return Err(pe_image::Error::Unsupported(what.into()));
        }
        let parts = SignedParts::find(&mut file)?;
        Ok(Self::Program(file, parts))
    }

    /// What its signatures say that they are of.
    pub fn subject(&self) -> Subject {
        match self {
            Self::Program(..) => Subject::Program,
            Self::Installer(_) => Subject::Installer,
            Self::Package(package) if package.find(opc::MANIFEST).is_some() => Subject::Package,
            Self::Package(_) => Subject::Bundle,
        }
    }

    /// Its signatures, in their order, and what is beside them.
    pub fn signatures(&mut self) -> Result<Vec<Vec<u8>>> {
        match self {
            Self::Program(file, parts) => parts.signatures(file),
            Self::Installer(package) => Ok(signature::signature(package)?.into_iter().map(|s| s.message).collect()),
            Self::Package(package) => Ok(opc::signature::message(package)?.into_iter().collect()),
        }
    }

    /// The digest of what is signed.
    pub fn digest(&mut self, hash: Hash) -> Result<Vec<u8>> {
        let mut digester = hash.digester();
        match self {
            Self::Program(file, parts) => parts.feed(file, |bytes| digester.update(bytes))?,
            Self::Installer(package) => {
                let extended = signature::signature(package)?.and_then(|signature| signature.directory);
                signature::feed(package, extended.as_deref(), |bytes| digester.update(bytes))?;
            }
            // Several digests in one, which are SHA-256 whatever the signature's is.
            Self::Package(package) => return opc::signature::digests(package),
        }
        Ok(digester.finish())
    }

    /// Why a key's certificate can't sign the file with a digest.
    pub fn refuses(&self, certificate: &Certificate, hash: Hash) -> Option<String> {
        let Self::Package(package) = self else { return None };
        if hash != Hash::Sha256 {
            return Some("packages of this kind are signed with SHA-256".into());
        }
        let publisher = manifest_of(package).map(|manifest| manifest.publisher).unwrap_or_default();
        let subject = certificate.subject();
        let is_same = crate::app_manifest::is_same_subject(&publisher, &subject);
        (!is_same)
            .then(|| format!("its manifest names the publisher {publisher:?}, and the certificate is of {subject:?}"))
    }

    /// The digests of a program's pages, SHA-256; none of any other file.
    pub fn pages(&mut self) -> Result<Option<Vec<u8>>> {
        match self {
            Self::Program(file, parts) => pages(parts, file).map(Some),
            Self::Installer(_) | Self::Package(_) => Ok(None),
        }
    }

    /// The digest of what will be signed when the file is written anew, and, in installer packages, the digest of their
    /// directory.
    pub fn digest_to_be(&mut self, hash: Hash) -> Result<(Vec<u8>, Vec<u8>)> {
        match self {
            Self::Program(..) | Self::Package(_) => Ok((self.digest(hash)?, Vec::new())),
            Self::Installer(package) => {
                let directory = digest_of_directory(package, hash, Directory::AsWritten);
                let mut digester = hash.digester();
                signature::feed(package, Some(&directory), |bytes| digester.update(bytes))?;
                Ok((digester.finish(), directory))
            }
        }
    }

    /// What is wrong beside what signatures sign.
    pub fn oddities(&mut self, hash: Option<Hash>) -> Result<Vec<String>> {
        Ok(match self {
            Self::Program(file, parts) => {
                let wrong = !parts.has_right_checksum(file)?;
                wrong.then(|| "the checksum in its headers is wrong".to_owned()).into_iter().collect()
            }
            Self::Installer(package) => {
                let Some(signature) = signature::signature(package)? else { return Ok(Vec::new()) };
                match (signature.directory, hash) {
                    (Some(extended), Some(hash)) => {
                        let own = digest_of_directory(package, hash, Directory::AsItIs);
                        let wrong = own != extended;
                        wrong.then(|| "its directory was changed after it was signed".to_owned()).into_iter().collect()
                    }
                    (None, _) => vec!["names and sizes of its streams are not signed".into()],
                    (_, None) => Vec::new(),
                }
            }
            // What the digests leave open: the records between parts, and every block.
            Self::Package(package) => opc::check::check(package)?,
        })
    }

    /// Puts a signature, and the digest of the directory that is signed with it, into the file itself, which has none yet and was
    /// written here.
    pub fn put_in_place(&mut self, file: &mut File, signature: &[u8], directory: &[u8]) -> Result<()> {
        match self {
            Self::Program(_, parts) => parts.put(file, &[signature.to_vec()]),
            Self::Installer(package) => match signature::put_in_place(package, &mut *file, (signature, directory))? {
                Some(length) => Ok(file.set_len(length)?),
                None => Err(pe_image::Error::Usage("the package was not written here".into())),
            },
            Self::Package(package) => {
                let length = opc::signature::put(package, file, signature)?;
                Ok(file.set_len(length)?)
            }
        }
    }

    /// Writes the file anew with these signatures, to another one.
    pub fn put(&mut self, to: &mut File, signatures: &[Vec<u8>], directory: &[u8]) -> Result<()> {
        match self {
            Self::Program(file, parts) => {
                file.seek(SeekFrom::Start(0))?;
                std::io::copy(file, to)?;
                parts.put(to, signatures)
            }
            Self::Installer(package) => {
                let signature = signatures.first().map(|signature| (signature.as_slice(), directory));
                signature::put(package, to, signature).map(drop)
            }
            Self::Package(package) => {
                let [message] = signatures else {
                    return Err(pe_image::Error::Usage("packages of this kind have one signature".into()));
                };
                std::io::copy(&mut read_at::Cursor::new(package.source()), to)?;
                let length = opc::signature::put(package, to, message)?;
                Ok(to.set_len(length)?)
            }
        }
    }
}

/// What a package says of itself; nothing for another archive.
fn manifest_of(package: &opc::read::Package<File>) -> Option<AppManifest> {
    let bytes = [opc::MANIFEST, opc::BUNDLE_MANIFEST].iter().find_map(|name| package.whole(name).ok().flatten())?;
    AppManifest::read(&bytes).ok()
}

/// The digests of a program's pages, SHA-256.
pub fn pages(parts: &SignedParts, file: &mut (impl Read + Seek)) -> Result<Vec<u8>> {
    parts.pages(file, Hash::Sha256.length(), |parts| {
        let mut digester = Hash::Sha256.digester();
        parts.iter().for_each(|part| digester.update(part));
        digester.finish()
    })
}

fn digest_of_directory(package: &Compound<File>, hash: Hash, which: Directory) -> Vec<u8> {
    let mut digester = hash.digester();
    signature::feed_directory(package, which, |bytes| digester.update(bytes));
    digester.finish()
}
