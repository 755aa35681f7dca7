//! The cache: files by their SHA-256, and what they are taken apart to. Several builds share it; whatever is in it may be removed
//! at any time, and is fetched again.
//!
//! ```text
//! files/SHA256              what was fetched, whole
//! files/SHA256.part         what is not whole yet
//! files/SHA256.address      where it came from, for people
//! folders/SHA256            an archive, taken apart
//! folders/SHA256-NAME       the folder of a file that is none, with the file in it; of one that was made, the SHA-256 of what it was made of
//! locks/SHA256              held while one of these is made
//! ```

use crate::extract::extract;
use crate::litter::Litter;
use crate::problem::{Code, Failure, Kind, Problem};
use crate::targets::{self, Depth};
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{self, Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime, UNIX_EPOCH};

/// How a Java module file begins: an archive follows (JEP 261).
const MODULE: &[u8] = b"JM\x01\x00";

/// The cache of a user.
pub(super) struct Cache(PathBuf);

/// Something that is kept.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Kept {
    /// SHA-256 of its file, in hexadecimal digits.
    pub sha256: String,
    /// Where it came from.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub address: Option<String>,
    /// Bytes of its file and of what that is taken apart to.
    pub bytes: u64,
    /// When it was used last, seconds since 1970.
    pub used: u64,
    /// Whether the file is whole.
    pub whole: bool,
}

/// What was removed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Cleaned {
    /// How many.
    pub removed: usize,
    /// Their bytes.
    pub bytes: u64,
    /// What stays.
    pub kept: Vec<Kept>,
}

/// A lock that is held until it is dropped, or until the program ends.
pub(super) struct Lock(#[allow(dead_code, reason = "it holds as long as it is open")] File);

fn unwritable(path: &Path) -> impl Fn(io::Error) -> Failure + '_ {
    move |e| Failure::io("can't write", path, e)
}

impl Cache {
    /// The user's.
    ///
    /// # Errors
    /// There is no place for it.
    pub fn open() -> Result<Self, Failure> {
        let Some(caches) = dirs::cache_dir() else {
            let problem = Problem::error(Code::Source, "this machine has no folder for caches");
            return Err(Failure::new(Kind::Machine, problem.instead("set XDG_CACHE_HOME, or HOME")));
        };
        Ok(Self(caches.join("upper-shelf").join("sources")))
    }

    /// A folder of it, which is made.
    fn room(&self, name: &str) -> Result<PathBuf, Failure> {
        let path = self.0.join(name);
        fs::create_dir_all(&path).map_err(|e| Failure::io("can't create the folder", &path, e))?;
        Ok(path)
    }

    pub fn file(&self, sha256: &str) -> PathBuf {
        self.0.join("files").join(sha256)
    }

    pub fn part(&self, sha256: &str) -> PathBuf {
        self.0.join("files").join(format!("{sha256}.part"))
    }

    fn own_folder(&self, sha256: &str, name: Option<&str>) -> PathBuf {
        let name = name.map(|name| format!("-{name}")).unwrap_or_default();
        self.0.join("folders").join(format!("{sha256}{name}"))
    }

    /// What something is taken apart to, if it is there.
    pub fn folder(&self, sha256: &str, name: &str) -> Option<PathBuf> {
        [self.own_folder(sha256, None), self.own_folder(sha256, Some(name))].into_iter().find(|path| path.is_dir())
    }

    /// Waits until nobody else makes the same.
    ///
    /// # Errors
    /// The medium's.
    pub fn lock(&self, sha256: &str) -> Result<Lock, Failure> {
        let file = self.lock_file(sha256)?;
        file.lock().map_err(unwritable(&self.0.join("locks").join(sha256)))?;
        Ok(Lock(file))
    }

    fn lock_file(&self, sha256: &str) -> Result<File, Failure> {
        let path = self.room("locks")?.join(sha256);
        File::options().create(true).truncate(false).write(true).open(&path).map_err(unwritable(&path))
    }

    /// Notes where something comes from.
    ///
    /// # Errors
    /// The medium's.
    pub fn note(&self, sha256: &str, address: &str) -> Result<(), Failure> {
        let path = self.room("files")?.join(format!("{sha256}.address"));
        fs::write(&path, address).map_err(unwritable(&path))
    }

    /// Notes that something is used now. Where that can't be noted, it only goes earlier.
    pub fn used(&self, sha256: &str) {
        let _ = self.lock_file(sha256).map(|file| file.set_modified(SystemTime::now()));
    }

    /// Takes a file apart, if it is an archive; else puts it into a folder of its own under its name. What comes of it appears
    /// whole or not at all.
    ///
    /// # Errors
    /// It is damaged or hostile, or the medium fails.
    pub fn take_apart(&self, file: &Path, sha256: &str, name: &str) -> Result<(), Failure> {
        let folders = self.room("folders")?;
        let mut begin = Vec::new();
        let opened = File::open(file).and_then(|file| file.take(4).read_to_end(&mut begin));
        opened.map_err(|e| Failure::io("can't read", file, e))?;
        let _litter;
        let mut archive = file.to_owned();
        if begin == MODULE {
            // Only the archive in it is of interest.
            archive = folders.join(format!(".{sha256}.{}.zip", std::process::id()));
            _litter = Litter::file(&archive);
            let copied = File::open(file).and_then(|mut from| {
                from.seek(SeekFrom::Start(MODULE.len() as u64))?;
                io::copy(&mut from, &mut File::create(&archive)?)
            });
            copied.map_err(unwritable(&archive))?;
        }
        match targets::read(&archive, Depth::Listing, 1) {
            Ok(_) => {
                extract(&archive, &self.own_folder(sha256, None), &[], 1)?;
            }
            Err(failure) if failure.problems.iter().any(|p| p.code == Code::NotAPackage) => {
                self.put(sha256, name, |to| fs::copy(&archive, to).map(|_| ()).map_err(unwritable(to)))?;
            }
            Err(failure) => return Err(failure),
        }
        self.used(sha256);
        Ok(())
    }

    /// Puts a file into a folder of its own, where it appears whole or not at all.
    fn put(&self, sha256: &str, name: &str, write: impl FnOnce(&Path) -> Result<(), Failure>) -> Result<(), Failure> {
        let own = self.own_folder(sha256, Some(name));
        let beside = self.room("folders")?.join(format!(".{sha256}.{}.partial", std::process::id()));
        let litter = Litter::folder(&beside);
        fs::create_dir_all(&beside).map_err(unwritable(&beside))?;
        write(&beside.join(name))?;
        fs::rename(&beside, &own).map_err(unwritable(&own))?;
        litter.keep();
        Ok(())
    }

    /// A file that is made of others, whose SHA-256 says of which: made now, unless it is there.
    ///
    /// # Errors
    /// It can't be made, or the medium fails.
    pub fn made(
        &self,
        sha256: &str,
        name: &str,
        note: &str,
        write: impl FnOnce(&Path) -> Result<(), Failure>,
    ) -> Result<PathBuf, Failure> {
        let file = self.own_folder(sha256, Some(name)).join(name);
        if !file.is_file() {
            // Another build that makes the same is waited for.
            let _lock = self.lock(sha256)?;
            if !file.is_file() {
                self.note(sha256, note)?;
                self.put(sha256, name, write)?;
            }
        }
        self.used(sha256);
        Ok(file)
    }
}

/// Bytes of everything below a path.
fn size_of(path: &Path) -> u64 {
    let Ok(meta) = path.symlink_metadata() else { return 0 };
    if !meta.is_dir() {
        return meta.len();
    }
    fs::read_dir(path).into_iter().flatten().flatten().map(|entry| size_of(&entry.path())).sum()
}

/// What the cache holds, the last used first.
///
/// # Errors
/// There is no cache on this machine.
pub fn kept() -> Result<Vec<Kept>, Failure> {
    let cache = Cache::open()?;
    let mut all: BTreeMap<String, (SystemTime, Kept)> = BTreeMap::new();
    for room in ["files", "folders"] {
        for entry in fs::read_dir(cache.0.join(room)).into_iter().flatten().flatten() {
            let name = entry.file_name().to_string_lossy().into_owned();
            let Some(sha256) = name.get(..64).filter(|own| own.bytes().all(|b| b.is_ascii_hexdigit())) else {
                continue;
            };
            let of = |sha256: &str| {
                let path = cache.0.join("locks").join(sha256);
                let used = path.metadata().and_then(|meta| meta.modified()).unwrap_or(UNIX_EPOCH);
                let one = Kept {
                    sha256: sha256.into(),
                    address: fs::read_to_string(cache.file(&format!("{sha256}.address"))).ok(),
                    bytes: 0,
                    used: used.duration_since(UNIX_EPOCH).unwrap_or(Duration::ZERO).as_secs(),
                    whole: false,
                };
                (used, one)
            };
            let (_, one) = all.entry(sha256.to_owned()).or_insert_with(|| of(sha256));
            one.bytes += size_of(&entry.path());
            one.whole |= room == "folders" || name.len() == 64;
        }
    }
    let mut all: Vec<(SystemTime, Kept)> = all.into_values().collect();
    all.sort_by(|(a, _), (b, _)| b.cmp(a));
    Ok(all.into_iter().map(|(_, one)| one).collect())
}

/// Removes what was not used for the longest time, until the rest has no more than so many bytes. What is being
/// fetched at this moment stays; a build that packs from what goes fails.
///
/// # Errors
/// Something can't be removed.
pub fn clean(most: u64) -> Result<Cleaned, Failure> {
    let cache = Cache::open()?;
    let mut kept = kept()?;
    let (mut total, mut cleaned) = (kept.iter().map(|one| one.bytes).sum::<u64>(), (0, 0));
    let mut busy = Vec::new();
    while total > most {
        let Some(last) = kept.pop() else { break };
        let lock = cache.lock_file(&last.sha256)?;
        if lock.try_lock().is_err() {
            busy.push(last);
            continue;
        }
        for room in ["files", "folders"] {
            for entry in fs::read_dir(cache.0.join(room)).into_iter().flatten().flatten() {
                if entry.file_name().to_string_lossy().starts_with(&last.sha256) {
                    let path = entry.path();
                    let gone = if path.is_dir() { fs::remove_dir_all(&path) } else { fs::remove_file(&path) };
                    gone.map_err(|e| Failure::io("can't remove", &path, e))?;
                }
            }
        }
        total -= last.bytes;
        cleaned = (cleaned.0 + 1, cleaned.1 + last.bytes);
    }
    kept.extend(busy);
    Ok(Cleaned { removed: cleaned.0, bytes: cleaned.1, kept })
}
