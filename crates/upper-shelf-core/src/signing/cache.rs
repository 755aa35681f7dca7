//! Signatures that were made before. What has not changed is not signed again: its timestamp stays, and so do all bytes that
//! hold it. Whatever is found here is checked like a signature that came from outside.

use super::Certificate;
use super::file::Signed;
use signatures::authenticode::{self, Imprint, Subject};
use signatures::code;
use signatures::key::Identity;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};

/// More than any signature has, bytes.
const LONGEST: u64 = 1 << 20;

/// What is signed.
#[derive(Debug, Clone, Copy)]
pub enum Matter<'w> {
    /// A file of Windows: of which kind, and what of it.
    File(Subject, Imprint<'w>),
    /// The directory of code of macOS.
    Code(&'w [u8]),
}

/// What a signature depends on.
pub struct Wanted<'w> {
    /// What is signed.
    pub matter: Matter<'w>,
    /// With which key.
    pub who: &'w Identity,
    /// And how.
    pub how: &'w Signed,
}

/// The folder, which may be removed at any time.
fn folder() -> Option<PathBuf> {
    dirs::cache_dir().map(|caches| caches.join("upper-shelf/signatures"))
}

impl Wanted<'_> {
    /// The name under which it is kept: a hash of all that it depends on.
    fn name(&self) -> String {
        let mut hasher = blake3::Hasher::new();
        let mut take = |part: &[u8]| {
            hasher.update(&(part.len() as u64).to_le_bytes());
            hasher.update(part);
        };
        match self.matter {
            Matter::File(subject, Imprint { hash, digest, pages }) => {
                take(match subject {
                    Subject::Program => b"program",
                    Subject::Installer => b"installer",
                    Subject::Package => b"package",
                    Subject::Bundle => b"bundle",
                });
                take(hash.name().as_bytes());
                take(digest);
                take(pages.unwrap_or_default());
            }
            Matter::Code(directory) => {
                take(b"code");
                take(directory);
            }
        }
        self.who.chain.iter().for_each(|certificate| take(certificate.der()));
        let named = [&self.how.named.name, &self.how.named.page];
        named.into_iter().for_each(|text| take(text.as_deref().unwrap_or_default().as_bytes()));
        let clock = self.how.clock.iter();
        clock.for_each(|clock| clock.addresses.iter().for_each(|address| take(address.as_bytes())));
        hasher.finalize().to_string()
    }

    /// One that was made before, if all of it is as it should be.
    pub fn find(&self) -> Option<Vec<u8>> {
        let file = folder()?.join(self.name());
        if std::fs::metadata(&file).ok()?.len() > LONGEST {
            return None;
        }
        let bytes = std::fs::read(file).ok()?;
        let clock = self.how.clock.as_ref();
        let roots: &[Certificate] = clock.map_or(&[], |clock| &clock.roots);
        let (stamp, is_same) = match self.matter {
            Matter::File(subject, Imprint { hash, digest, pages }) => {
                let report = authenticode::check(&bytes, subject, roots, super::now()).ok()?;
                let is_same = report.digest == digest
                    && report.pages.as_deref() == pages
                    && report.hash == hash
                    && report.named == self.how.named
                    && report.signer == *self.who.certificate()
                    && report.further.is_empty();
                (report.stamp, is_same)
            }
            Matter::Code(directory) => {
                let report = code::check(&bytes, directory, roots, super::now()).ok()?;
                (report.signed.stamp, report.signed.signer == *self.who.certificate())
            }
        };
        let has_time = match (&stamp, clock) {
            (None, None) => true,
            (Some(stamp), Some(clock)) => {
                stamp.chain.problems.is_empty() && (clock.roots.is_empty() || stamp.chain.untrusted.is_none())
            }
            _ => false,
        };
        (has_time && is_same).then_some(bytes)
    }

    /// Keeps one, and gives it back; or the one that another thread has kept for the same bytes, so that both are alike. Where
    /// none can be kept, it will be made again.
    pub fn keep(&self, bytes: Vec<u8>) -> Vec<u8> {
        static KEEPING: Mutex<()> = Mutex::new(());
        let _one = KEEPING.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(first) = self.find() {
            return first;
        }
        let Some(folder) = folder() else { return bytes };
        put(&folder, &self.name(), &bytes);
        bytes
    }
}

/// A text that was kept under a name.
pub(super) fn text(name: &str) -> Option<String> {
    let file = folder()?.join(name);
    if std::fs::metadata(&file).ok()?.len() > LONGEST {
        return None;
    }
    std::fs::read_to_string(file).ok()
}

/// Keeps a text under a name. Where it can't be kept, it will be made again.
pub(super) fn keep_text(name: &str, text: &str) {
    let Some(folder) = folder() else { return };
    put(&folder, name, text.as_bytes());
}

/// Writes a file of the folder, whole or not at all.
fn put(folder: &Path, name: &str, bytes: &[u8]) {
    static NEXT: AtomicUsize = AtomicUsize::new(0);
    let own = format!(".{}-{}", std::process::id(), NEXT.fetch_add(1, Ordering::Relaxed));
    let (beside, file) = (folder.join(own), folder.join(name));
    let written = make_private(folder).and_then(|()| std::fs::write(&beside, bytes));
    if written.and_then(|()| std::fs::rename(&beside, &file)).is_err() {
        let _ = std::fs::remove_file(&beside);
    }
}

/// A folder that is its owner's alone.
fn make_private(folder: &Path) -> std::io::Result<()> {
    let mut builder = std::fs::DirBuilder::new();
    builder.recursive(true);
    #[cfg(unix)]
    std::os::unix::fs::DirBuilderExt::mode(&mut builder, 0o700);
    builder.create(folder)
}
