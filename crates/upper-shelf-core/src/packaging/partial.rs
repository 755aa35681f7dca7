//! A package under way: a locked file with a name that says so, which becomes the package when all is well.

use crate::litter::{Litter, PARTIAL};
use crate::problem::{Code, Failure, Kind, Problem};
use std::fs::{self, File};
use std::path::{Path, PathBuf};

/// What a killed build left behind is nobody's: its lock went with it.
pub(super) fn clear_left_behind(output: &Path) {
    for entry in fs::read_dir(output).into_iter().flatten().flatten() {
        let is_partial = entry.file_name().to_str().is_some_and(|n| n.starts_with('.') && n.ends_with(PARTIAL));
        if is_partial && claim(&entry.path(), false).is_ok_and(|file| file.is_some()) {
            let _ = fs::remove_file(entry.path());
        }
    }
}

/// Opens a file under way for the one build that may write it; nothing if another one does.
#[cfg(not(windows))]
fn claim(path: &Path, create: bool) -> std::io::Result<Option<File>> {
    let file = File::options().read(true).write(true).create(create).truncate(false).open(path)?;
    Ok(file.try_lock().is_ok().then_some(file))
}

/// The same on Windows, where a lock would keep this very build from reading the package back: nobody else may open the
/// file to write it, and everybody may read and rename it.
#[cfg(windows)]
fn claim(path: &Path, create: bool) -> std::io::Result<Option<File>> {
    use std::os::windows::fs::OpenOptionsExt;
    const SHARE_READ: u32 = 1;
    const SHARE_DELETE: u32 = 4;
    const SHARING_VIOLATION: i32 = 32;
    let mut options = File::options();
    options.read(true).write(true).create(create).truncate(false).share_mode(SHARE_READ | SHARE_DELETE);
    match options.open(path) {
        Err(e) if e.raw_os_error() == Some(SHARING_VIOLATION) => Ok(None),
        opened => opened.map(Some),
    }
}

/// A package under way: removed unless it is finished.
pub(super) struct Partial {
    pub(super) file: File,
    pub(super) path: PathBuf,
    litter: Litter,
}

impl Partial {
    pub(super) fn create(output: &Path, name: &str) -> Result<Self, Failure> {
        let path = output.join(format!(".{name}{PARTIAL}"));
        let trouble = |e: std::io::Error| Failure::io("can't write", &path, e);
        for _ in 0..20 {
            let Some(file) = claim(&path, true).map_err(trouble)? else {
                let problem = Problem::error(Code::Busy, format!("another build is writing {name}")).on(&path);
                return Err(Failure::new(Kind::Busy, problem.instead("wait for it, or choose another output folder")));
            };
            // Between opening and locking somebody may have finished with this very file.
            if fs::metadata(&path).is_ok_and(|m| same_file(&m, &file)) {
                file.set_len(0).map_err(trouble)?;
                let litter = Litter::file(&path);
                return Ok(Self { file, path, litter });
            }
        }
        let problem = Problem::error(Code::Busy, format!("other builds keep writing {name}")).on(&path);
        Err(Failure::new(Kind::Busy, problem.instead("wait for them, or choose another output folder")))
    }

    /// Syncs the file and gives it its name.
    pub(super) fn finish(self, name: &Path, executable: bool) -> Result<(), Failure> {
        let trouble = |e: std::io::Error| Failure::io("can't finish", name, e);
        #[cfg(unix)]
        if executable {
            use std::os::unix::fs::PermissionsExt;
            self.file.set_permissions(fs::Permissions::from_mode(0o755)).map_err(trouble)?;
        }
        let _ = executable;
        self.file.sync_all().map_err(trouble)?;
        fs::rename(&self.path, name).map_err(trouble)?;
        self.litter.keep();
        #[cfg(unix)]
        if let Some(folder) = name.parent() {
            // The name is as safe as the folder that holds it; not all file systems can be asked for that.
            let _ = File::open(folder).and_then(|f| f.sync_all());
        }
        Ok(())
    }
}

/// The page that describes a package, under way. One of an older build is not there while the package changes.
pub(super) struct Page {
    partial: Partial,
    name: PathBuf,
}

impl Page {
    pub(super) fn begin(output: &Path, name: &str, text: &str) -> Result<Self, Failure> {
        use std::io::Write;
        let mut partial = Partial::create(output, name)?;
        let name = output.join(name);
        partial.file.write_all(text.as_bytes()).map_err(|e| Failure::io("can't write", &name, e))?;
        take_away(&name)?;
        Ok(Self { partial, name })
    }

    pub(super) fn finish(self) -> Result<PathBuf, Failure> {
        self.partial.finish(&self.name, false)?;
        Ok(self.name)
    }
}

/// Removes a file of an older build; one that is not there is as good.
pub(super) fn take_away(file: &Path) -> Result<(), Failure> {
    match fs::remove_file(file) {
        Err(e) if e.kind() != std::io::ErrorKind::NotFound => Err(Failure::io("can't replace", file, e)),
        _ => Ok(()),
    }
}

/// Removes cabinets of an older build of the same package that this one has no use for: `STEM.N.cab`.
pub(super) fn clear_beside(package: &Path, with_package: &[PathBuf]) {
    let Some((folder, stem)) = package.parent().zip(package.file_stem().and_then(|s| s.to_str())) else { return };
    for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
        let name = entry.file_name();
        let number = name.to_str().and_then(|n| n.strip_prefix(stem)?.strip_prefix('.')?.strip_suffix(".cab"));
        let is_ours = number.is_some_and(|n| !n.is_empty() && n.bytes().all(|b| b.is_ascii_digit()));
        if is_ours && package.extension().is_some_and(|e| e == "msi") && !with_package.contains(&entry.path()) {
            let _ = fs::remove_file(entry.path());
        }
    }
}

#[cfg(unix)]
fn same_file(meta: &fs::Metadata, file: &File) -> bool {
    use std::os::unix::fs::MetadataExt;
    file.metadata().is_ok_and(|m| (m.dev(), m.ino()) == (meta.dev(), meta.ino()))
}

#[cfg(not(unix))]
fn same_file(_: &fs::Metadata, _: &File) -> bool {
    true
}
