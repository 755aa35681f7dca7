//! Files and folders. Long paths are always taken: names pass in the system's unabridged form.

use crate::system::{narrow, wide, Fault, Result};
use alloc::format;
use alloc::string::String;
use alloc::vec;
use alloc::vec::Vec;
use windows_sys::Win32::Foundation::{CloseHandle, GENERIC_READ, GENERIC_WRITE, HANDLE, INVALID_HANDLE_VALUE};
use windows_sys::Win32::Storage::FileSystem as fs;

/// A path in the form that is not cut at 260 letters.
pub fn long(path: &str) -> Vec<u16> {
    match path.strip_prefix(r"\\") {
        _ if path.starts_with(r"\\?\") => wide(path),
        Some(share) => wide(&format!(r"\\?\UNC\{share}")),
        None if path.as_bytes().get(1) == Some(&b':') => wide(&format!(r"\\?\{path}")),
        None => wide(path),
    }
}

/// An open file.
pub struct File(HANDLE);

impl Drop for File {
    fn drop(&mut self) {
        // SAFETY: the handle is open and this is its only owner.
        unsafe { CloseHandle(self.0) };
    }
}

impl File {
    fn with(path: &str, access: u32, share: u32, how: u32, flags: u32) -> Result<Self> {
        // SAFETY: the name ends with a zero.
        let handle = unsafe {
            fs::CreateFileW(long(path).as_ptr(), access, share, core::ptr::null(), how, flags, core::ptr::null_mut())
        };
        if handle == INVALID_HANDLE_VALUE { Err(Fault::last(path)) } else { Ok(Self(handle)) }
    }

    pub fn open(path: &str) -> Result<Self> {
        Self::with(path, GENERIC_READ, fs::FILE_SHARE_READ | fs::FILE_SHARE_DELETE, fs::OPEN_EXISTING, 0)
    }

    pub fn create(path: &str) -> Result<Self> {
        Self::with(path, GENERIC_WRITE, fs::FILE_SHARE_READ, fs::CREATE_ALWAYS, fs::FILE_ATTRIBUTE_NORMAL)
    }

    /// Fails if any program has the file open, or runs it.
    pub fn alone(path: &str) -> Result<Self> {
        Self::with(path, GENERIC_READ | GENERIC_WRITE | fs::DELETE, 0, fs::OPEN_EXISTING, 0)
    }

    /// Reads a part; 0 at the end.
    pub fn read(&self, into: &mut [u8]) -> Result<usize> {
        let mut done = 0;
        let wanted = into.len().min(1 << 20) as u32;
        // SAFETY: the buffer has at least as many bytes.
        let ok = unsafe { fs::ReadFile(self.0, into.as_mut_ptr(), wanted, &mut done, core::ptr::null_mut()) };
        if ok == 0 { Err(Fault::last("reading")) } else { Ok(done as usize) }
    }

    pub fn seek(&self, at: u64) -> Result<()> {
        // SAFETY: the handle is open.
        let ok = unsafe { fs::SetFilePointerEx(self.0, at as i64, core::ptr::null_mut(), fs::FILE_BEGIN) };
        if ok == 0 { Err(Fault::last("seeking")) } else { Ok(()) }
    }

    pub fn size(&self) -> Result<u64> {
        let mut size = 0;
        // SAFETY: the handle is open.
        let ok = unsafe { fs::GetFileSizeEx(self.0, &mut size) };
        if ok == 0 { Err(Fault::last("size")) } else { Ok(size as u64) }
    }

    pub fn write(&self, mut bytes: &[u8], path: &str) -> Result<()> {
        while !bytes.is_empty() {
            let mut done = 0;
            let n = bytes.len().min(1 << 24) as u32;
            // SAFETY: the buffer has as many bytes.
            let ok = unsafe { fs::WriteFile(self.0, bytes.as_ptr(), n, &mut done, core::ptr::null_mut()) };
            if ok == 0 || done == 0 {
                return Err(Fault::last(path));
            }
            bytes = &bytes[done as usize..];
        }
        Ok(())
    }

    /// Sets when it was last changed: the system's hundredths of microseconds.
    pub fn set_time(&self, low: u32, high: u32) {
        if (low, high) != (0, 0) {
            let time = windows_sys::Win32::Foundation::FILETIME { dwLowDateTime: low, dwHighDateTime: high };
            // SAFETY: the handle is open for writing.
            unsafe { fs::SetFileTime(self.0, core::ptr::null(), core::ptr::null(), &time) };
        }
    }

    /// Waits until it is on the disk.
    pub fn flush(&self) {
        // SAFETY: the handle is open.
        unsafe { fs::FlushFileBuffers(self.0) };
    }
}

/// A whole file.
pub fn read(path: &str) -> Result<Vec<u8>> {
    let file = File::open(path)?;
    let size = file.size()? as usize;
    let mut bytes = vec![0; size];
    let mut done = 0;
    while done < size {
        match file.read(&mut bytes[done..])? {
            0 => break,
            n => done += n,
        }
    }
    bytes.truncate(done);
    Ok(bytes)
}

/// Writes a whole file; it is on the disk afterwards.
pub fn write(path: &str, bytes: &[u8]) -> Result<()> {
    let file = File::create(path)?;
    file.write(bytes, path)?;
    file.flush();
    Ok(())
}

fn attributes(path: &str) -> Option<u32> {
    // SAFETY: the name ends with a zero.
    match unsafe { fs::GetFileAttributesW(long(path).as_ptr()) } {
        fs::INVALID_FILE_ATTRIBUTES => None,
        found => Some(found),
    }
}

pub fn exists(path: &str) -> bool {
    attributes(path).is_some()
}

pub fn is_folder(path: &str) -> bool {
    attributes(path).is_some_and(|a| a & fs::FILE_ATTRIBUTE_DIRECTORY != 0)
}

/// Whether it leads somewhere else: a link or a mount point.
pub fn is_link(path: &str) -> bool {
    attributes(path).is_some_and(|a| a & fs::FILE_ATTRIBUTE_REPARSE_POINT != 0)
}

/// Moves a file, over another one if that is there.
pub fn rename(from: &str, to: &str) -> Result<()> {
    let flags = fs::MOVEFILE_REPLACE_EXISTING | fs::MOVEFILE_COPY_ALLOWED;
    // SAFETY: both names end with a zero.
    let ok = unsafe { fs::MoveFileExW(long(from).as_ptr(), long(to).as_ptr(), flags) };
    if ok != 0 {
        return Ok(());
    }
    let fault = Fault::last(to);
    // A file that must not be written may still be replaced.
    if attributes(to).is_some_and(|a| a & fs::FILE_ATTRIBUTE_READONLY != 0) {
        // SAFETY: as above.
        unsafe {
            fs::SetFileAttributesW(long(to).as_ptr(), fs::FILE_ATTRIBUTE_NORMAL);
            if fs::MoveFileExW(long(from).as_ptr(), long(to).as_ptr(), flags) != 0 {
                return Ok(());
            }
        }
    }
    Err(fault)
}

/// Has the system move a file when it starts again.
pub fn rename_at_restart(from: &str, to: &str) -> Result<()> {
    let flags = fs::MOVEFILE_REPLACE_EXISTING | fs::MOVEFILE_DELAY_UNTIL_REBOOT;
    // SAFETY: both names end with a zero.
    let ok = unsafe { fs::MoveFileExW(long(from).as_ptr(), long(to).as_ptr(), flags) };
    if ok == 0 { Err(Fault::last(to)) } else { Ok(()) }
}

/// Has the system take a file away when it starts again.
pub fn delete_at_restart(path: &str) -> Result<()> {
    // SAFETY: the name ends with a zero; null asks for its removal.
    let ok = unsafe { fs::MoveFileExW(long(path).as_ptr(), core::ptr::null(), fs::MOVEFILE_DELAY_UNTIL_REBOOT) };
    if ok == 0 { Err(Fault::last(path)) } else { Ok(()) }
}

/// Gives a file one more name; copies it where the disk can't do that.
pub fn hard_link(new: &str, of: &str) -> Result<()> {
    // SAFETY: both names end with a zero.
    unsafe {
        if fs::CreateHardLinkW(long(new).as_ptr(), long(of).as_ptr(), core::ptr::null()) != 0 {
            return Ok(());
        }
        if fs::CopyFileW(long(of).as_ptr(), long(new).as_ptr(), 0) != 0 { Ok(()) } else { Err(Fault::last(new)) }
    }
}

pub fn delete(path: &str) -> bool {
    let name = long(path);
    // SAFETY: the name ends with a zero.
    unsafe {
        fs::DeleteFileW(name.as_ptr()) != 0 || {
            fs::SetFileAttributesW(name.as_ptr(), fs::FILE_ATTRIBUTE_NORMAL);
            fs::DeleteFileW(name.as_ptr()) != 0
        }
    }
}

/// Takes a file away that may be running: at the latest when the system starts again.
pub fn delete_at_last(path: &str) {
    if delete(path) || !exists(path) {
        return;
    }
    // What runs can't be deleted, but it can be moved out of the way.
    let to = format!("{}\\~gone{:x}", temporary(), ticks());
    let moved = rename(path, &to).is_ok();
    let left = if moved { &to } else { path };
    // SAFETY: the name ends with a zero; null asks for its removal.
    unsafe { fs::MoveFileExW(long(left).as_ptr(), core::ptr::null(), fs::MOVEFILE_DELAY_UNTIL_REBOOT) };
}

/// A number that grows.
pub fn ticks() -> u64 {
    // SAFETY: no preconditions.
    unsafe { windows_sys::Win32::System::SystemInformation::GetTickCount64() }
}

/// The folder for temporary files, without a backslash at its end.
pub fn temporary() -> String {
    let mut buffer = [0u16; 1024];
    // SAFETY: the buffer is as long as is said.
    let n = unsafe { fs::GetTempPathW(buffer.len() as u32, buffer.as_mut_ptr()) } as usize;
    narrow(&buffer[..n.min(buffer.len())]).trim_end_matches('\\').into()
}

/// Makes a folder; its parents have to be there. Gives whether it is new.
pub fn make_folder(path: &str) -> Result<bool> {
    // SAFETY: the name ends with a zero.
    if unsafe { fs::CreateDirectoryW(long(path).as_ptr(), core::ptr::null()) } != 0 {
        return Ok(true);
    }
    let fault = Fault::last(path);
    if is_folder(path) { Ok(false) } else { Err(fault) }
}

/// The folders above a path that are not there yet, the topmost first; then the path itself if it is missing.
pub fn missing_folders(path: &str) -> Vec<String> {
    let mut missing = Vec::new();
    let mut now = path;
    while !now.ends_with(':') && !now.is_empty() && !exists(now) {
        missing.push(now.into());
        match now.rsplit_once('\\') {
            Some((parent, _)) => now = parent,
            None => break,
        }
    }
    missing.reverse();
    missing
}

pub fn make_folders(path: &str) -> Result<()> {
    for folder in missing_folders(path) {
        make_folder(&folder)?;
    }
    if is_folder(path) { Ok(()) } else { Err(Fault::new(crate::system::code::FAILED, "setup-folder", path)) }
}

/// Removes a folder if it is empty.
pub fn remove_folder(path: &str) -> bool {
    // SAFETY: the name ends with a zero.
    !is_link(path) && unsafe { fs::RemoveDirectoryW(long(path).as_ptr()) } != 0
}

/// The names in a folder.
pub fn names(folder: &str) -> Vec<String> {
    let mut all = Vec::new();
    // SAFETY: the structure is plain data, filled by the system; the handle is closed once.
    unsafe {
        let mut found: fs::WIN32_FIND_DATAW = core::mem::zeroed();
        let handle = fs::FindFirstFileW(long(&format!("{folder}\\*")).as_ptr(), &mut found);
        if handle == INVALID_HANDLE_VALUE {
            return all;
        }
        loop {
            let name = narrow(&found.cFileName);
            if name != "." && name != ".." {
                all.push(name);
            }
            if fs::FindNextFileW(handle, &mut found) == 0 {
                break;
            }
        }
        fs::FindClose(handle);
    }
    all
}

/// Takes a folder away with all that is in it; links in it are not followed.
pub fn remove_tree(folder: &str) {
    if !is_folder(folder) || is_link(folder) {
        return;
    }
    for name in names(folder) {
        let path = format!("{folder}\\{name}");
        if is_folder(&path) && !is_link(&path) {
            remove_tree(&path);
        } else {
            delete_at_last(&path);
        }
    }
    remove_folder(folder);
}

/// Bytes free on the disk that a folder is on or will be on.
pub fn free_space(folder: &str) -> Option<u64> {
    let mut now = folder;
    while !exists(now) {
        now = now.rsplit_once('\\')?.0;
    }
    let mut free = 0;
    // SAFETY: the name ends with a zero.
    let ok = unsafe {
        fs::GetDiskFreeSpaceExW(long(&format!("{now}\\")).as_ptr(), &mut free, core::ptr::null_mut(), core::ptr::null_mut())
    };
    (ok != 0).then_some(free)
}

/// Asks the system to bring everything that was written on a disk onto it; only administrators may.
pub fn flush_disk(folder: &str) {
    if let Some(letter) = folder.get(..2) {
        let name = format!(r"\\.\{letter}");
        if let Ok(disk) = File::with(&name, GENERIC_WRITE, fs::FILE_SHARE_READ | fs::FILE_SHARE_WRITE, fs::OPEN_EXISTING, 0) {
            disk.flush();
        }
    }
}
