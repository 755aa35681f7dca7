//! Where nothing can be mounted: the image unpacked once into the user's cache, keyed by its content, used by any number
//! of starts at once, and taken away when it has not been used for two weeks.
//!
//! A lock file stands beside each unpacked folder. Who uses the folder holds it shared (the program inherits it); who
//! makes or removes the folder holds it alone. A folder gets its name when it is whole.

use crate::image::Bundle;
use crate::{mount, unpack, Failure};
use std::fs::{self, File};
use std::io::{self, Read, Seek, SeekFrom};
use std::os::fd::{AsRawFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{DirBuilderExt, MetadataExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::time::Duration;

const UNUSED: Duration = Duration::from_secs(14 * 24 * 3600);

/// An unpacked image and the lock that keeps it there; the program inherits the lock.
pub struct Unpacked {
    pub folder: PathBuf,
    _lock: OwnedFd,
}

/// A folder that is ours alone: not a link, our own, closed to everybody else.
pub fn is_private(path: &Path) -> bool {
    // SAFETY: only asks.
    let uid = unsafe { libc::geteuid() };
    fs::symlink_metadata(path).is_ok_and(|m| m.is_dir() && m.uid() == uid && m.mode() & 0o077 == 0)
}

/// 16 letters that nobody can guess.
pub fn random_name() -> String {
    let mut bytes = [0; 8];
    let read = File::open("/dev/urandom").and_then(|mut f| f.read_exact(&mut bytes));
    if read.is_err() {
        let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
        bytes = (now.as_nanos() as u64 ^ u64::from(std::process::id()) << 40).to_le_bytes();
    }
    bytes.iter().map(|b| format!("{b:02x}")).collect()
}

/// Candidates for the cache, best first: the user's cache folder, then a private folder among the temporary ones.
fn cache_folders() -> Vec<PathBuf> {
    // SAFETY: only asks.
    let uid = unsafe { libc::geteuid() };
    let absolute = |name: &str| std::env::var_os(name).map(PathBuf::from).filter(|p| p.is_absolute());
    let home = absolute("HOME").map(|h| h.join(".cache"));
    let cache = absolute("XDG_CACHE_HOME").or(home).map(|c| c.join("upper-shelf"));
    let temporary = absolute("TMPDIR").unwrap_or_else(|| "/tmp".into()).join(format!("upper-shelf-{uid}"));
    cache.into_iter().chain([temporary]).collect()
}

/// Makes a private folder (its parents as usual); programs can be run from it.
fn private_folder(path: &Path) -> io::Result<()> {
    if let Some(parent) = path.parent() {
        fs::DirBuilder::new().recursive(true).mode(0o755).create(parent)?;
    }
    match fs::DirBuilder::new().mode(0o700).create(path) {
        Err(e) if e.kind() != io::ErrorKind::AlreadyExists => return Err(e),
        _ => {}
    }
    if !is_private(path) {
        return Err(io::Error::other("other users could change its contents"));
    }
    if runs_nothing(path) {
        return Err(io::Error::other("the system doesn't run programs from there"));
    }
    Ok(())
}

fn runs_nothing(path: &Path) -> bool {
    let Ok(path) = std::ffi::CString::new(path.as_os_str().as_bytes()) else { return false };
    // SAFETY: the struct is plain numbers, and the path lives until the call is over.
    unsafe {
        let mut about: libc::statvfs = std::mem::zeroed();
        libc::statvfs(path.as_ptr(), &mut about) == 0 && about.f_flag & libc::ST_NOEXEC != 0
    }
}

/// Finds the image unpacked, or unpacks it.
pub fn unpack(bundle: &Bundle) -> Result<Unpacked, Failure> {
    let image = bundle.image()?;
    let expected = bundle.content_hash();
    let key = match expected {
        Some(hash) => hash,
        None => hash_of(bundle, image.bytes_used()).map_err(|e| bundle.damaged(e))?,
    };
    let name: String = key[..16].iter().map(|b| format!("{b:02x}")).collect();
    let mut reasons = Vec::new();
    for cache in cache_folders() {
        if let Err(e) = private_folder(&cache) {
            reasons.push(format!("{}: {e}", cache.display()));
            continue;
        }
        match in_cache(bundle, &image, &cache, &name, expected) {
            Ok(unpacked) => {
                clear_unused(&cache, &name);
                return Ok(unpacked);
            }
            Err(Trouble::Fatal(failure)) => return Err(failure),
            Err(Trouble::Here(e)) => reasons.push(format!("{}: {e}", cache.display())),
        }
    }
    let reasons = reasons.join("; ");
    Err(Failure::new(format!("{} could be neither mounted nor unpacked ({reasons}).", bundle.path.display())))
}

enum Trouble {
    /// No place helps.
    Fatal(Failure),
    /// Another place may.
    Here(io::Error),
}

impl From<io::Error> for Trouble {
    fn from(e: io::Error) -> Self {
        Self::Here(e)
    }
}

fn in_cache(
    bundle: &Bundle,
    image: &squashfs::read::Image<crate::image::Source>,
    cache: &Path,
    name: &str,
    expected: Option<[u8; 32]>,
) -> Result<Unpacked, Trouble> {
    let folder = cache.join(name);
    let lock = lock_file(&cache.join(format!("{name}.lock")), libc::LOCK_SH)?;
    if !folder.is_dir() {
        flock(&lock, libc::LOCK_EX)?;
        if !folder.is_dir() {
            let partial = cache.join(format!("{name}.partial"));
            remove_tree(&partial);
            // What is checked piece by piece needs no reading beforehand.
            let expected = expected.filter(|_| !image.source().is_checked());
            let whole = check_hash(bundle, image.bytes_used(), expected)
                .and_then(|()| unpack::unpack(image, &partial, None).map_err(|e| e.into_failure(bundle)));
            if let Err(failure) = whole {
                remove_tree(&partial);
                return Err(Trouble::Fatal(failure));
            }
            fs::rename(&partial, &folder)?;
        }
        flock(&lock, libc::LOCK_SH)?;
    }
    // The lock file's time says when the folder was last used.
    let _ = lock.set_modified(std::time::SystemTime::now());
    Ok(Unpacked { folder, _lock: mount::inheritable(lock.into())? })
}

fn check_hash(bundle: &Bundle, len: u64, expected: Option<[u8; 32]>) -> Result<(), Failure> {
    let Some(expected) = expected else { return Ok(()) };
    match hash_of(bundle, len) {
        Err(e) => Err(bundle.damaged(e)),
        Ok(seen) if seen != expected => Err(bundle.damaged("its content was changed after it was packed")),
        Ok(_) => Ok(()),
    }
}

/// BLAKE3 of the image's `len` bytes.
fn hash_of(bundle: &Bundle, len: u64) -> io::Result<[u8; 32]> {
    let mut file = bundle.file.try_clone()?;
    file.seek(SeekFrom::Start(bundle.offset))?;
    let mut part = file.take(len);
    let mut hasher = blake3::Hasher::new();
    let mut buffer = vec![0; 1 << 18];
    loop {
        match part.read(&mut buffer)? {
            0 => return Ok(*hasher.finalize().as_bytes()),
            n => drop(hasher.update(&buffer[..n])),
        }
    }
}

/// Opens and locks a lock file; again, if somebody removed it between the two.
fn lock_file(path: &Path, how: libc::c_int) -> io::Result<File> {
    for _ in 0..100 {
        let mut options = fs::OpenOptions::new();
        options.read(true).write(true).create(true).mode(0o600).custom_flags(libc::O_NOFOLLOW);
        let file = options.open(path)?;
        flock(&file, how)?;
        if file.metadata()?.nlink() > 0 {
            return Ok(file);
        }
    }
    Err(io::Error::other("the lock file keeps vanishing"))
}

fn flock(file: &File, how: libc::c_int) -> io::Result<()> {
    loop {
        // SAFETY: a descriptor that is open.
        if unsafe { libc::flock(file.as_raw_fd(), how) } == 0 {
            return Ok(());
        }
        let e = io::Error::last_os_error();
        if e.kind() != io::ErrorKind::Interrupted {
            return Err(e);
        }
    }
}

/// Takes away what nobody uses and nobody has used for two weeks.
fn clear_unused(cache: &Path, own: &str) {
    for entry in fs::read_dir(cache).into_iter().flatten().flatten() {
        let path = entry.path();
        let Some(name) = entry.file_name().to_str().and_then(|n| n.strip_suffix(".lock")).map(str::to_owned) else {
            continue;
        };
        let age = entry.metadata().and_then(|m| m.modified()).ok().and_then(|t| t.elapsed().ok());
        if name == own || age.is_none_or(|age| age < UNUSED) {
            continue;
        }
        if lock_file(&path, libc::LOCK_EX | libc::LOCK_NB).is_ok_and(|_lock| {
            remove_tree(&cache.join(&name));
            remove_tree(&cache.join(format!("{name}.partial")));
            fs::remove_file(&path).is_ok()
        }) {
            continue;
        }
    }
}

/// Removes a folder even if folders in it may not be written to.
fn remove_tree(path: &Path) {
    if fs::remove_dir_all(path).is_ok() || !path.exists() {
        return;
    }
    let mut stack = vec![path.to_owned()];
    while let Some(dir) = stack.pop() {
        let _ = fs::set_permissions(&dir, std::os::unix::fs::PermissionsExt::from_mode(0o700));
        let entries = fs::read_dir(&dir).into_iter().flatten().flatten();
        stack.extend(entries.filter(|e| e.file_type().is_ok_and(|t| t.is_dir())).map(|e| e.path()));
    }
    let _ = fs::remove_dir_all(path);
}
