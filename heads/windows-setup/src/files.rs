//! Files and folders. Long paths are always taken: names pass in the system's unabridged form.

use crate::system::{code, done, Fault, Result};
use crate::text::{cat, hex, path, t, thread, Scope, Text, EMPTY};
use alloc::vec;
use alloc::vec::Vec;
use windows_sys::Win32::Foundation::{
    CloseHandle, FILETIME, GENERIC_READ, GENERIC_WRITE, HANDLE, INVALID_HANDLE_VALUE,
};
use windows_sys::Win32::Security as se;
use windows_sys::Win32::Storage::FileSystem as fs;

/// The longest path, and what stands before it in its unabridged form.
const ROOM: usize = 32768 + 16;
/// Two for each thread: no call takes more paths.
static mut LONG: [[[u16; ROOM]; 2]; 2] = [[[0; ROOM]; 2]; 2];

/// A path in the form that is not cut at 260 letters, until the next one is put there.
fn long_at(path: Text, which: usize) -> *const u16 {
    let (before, path) = if path.begins(t!("\\\\?\\")) {
        return path.ptr();
    } else if path.begins(t!("\\\\")) {
        (t!("\\\\?\\UNC\\"), path.skip(2))
    } else if path.skip(1).begins(t!(":")) {
        (t!("\\\\?\\"), path)
    } else {
        return path.ptr();
    };
    let (before, units) = (before.units(), path.units());
    if before.len() + units.len() >= ROOM {
        return path.ptr();
    }
    // SAFETY: each thread has its own, and there is room for both and the zero.
    unsafe {
        let to: *mut u16 = (&raw mut LONG[thread()][which]).cast();
        core::ptr::copy_nonoverlapping(before.as_ptr(), to, before.len());
        core::ptr::copy_nonoverlapping(units.as_ptr(), to.add(before.len()), units.len() + 1);
        to
    }
}

fn long(path: Text) -> *const u16 {
    long_at(path, 0)
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
    #[inline(never)]
    fn with(path: Text, access: u32, share: u32, how: u32) -> Result<Self> {
        // SAFETY: the name ends with a zero.
        let handle = unsafe {
            fs::CreateFileW(
                long(path),
                access,
                share,
                core::ptr::null(),
                how,
                fs::FILE_ATTRIBUTE_NORMAL,
                core::ptr::null_mut(),
            )
        };
        if handle == INVALID_HANDLE_VALUE {
            Err(Fault::last(path))
        } else {
            Ok(Self(handle))
        }
    }

    pub fn open(path: Text) -> Result<Self> {
        Self::with(path, GENERIC_READ, fs::FILE_SHARE_READ | fs::FILE_SHARE_DELETE, fs::OPEN_EXISTING)
    }

    pub fn create(path: Text) -> Result<Self> {
        Self::with(path, GENERIC_WRITE, fs::FILE_SHARE_READ, fs::CREATE_ALWAYS)
    }

    /// A file that was not there before: nothing that somebody else has put in its place is written to.
    pub fn create_new(path: Text) -> Result<Self> {
        Self::with(path, GENERIC_WRITE, fs::FILE_SHARE_READ, fs::CREATE_NEW)
    }

    /// Fails if any program has the file open, or runs it.
    pub fn alone(path: Text) -> Result<Self> {
        Self::with(path, GENERIC_READ | GENERIC_WRITE | fs::DELETE, 0, fs::OPEN_EXISTING)
    }

    /// Reads a part; 0 at the end.
    pub fn read(&self, into: &mut [u8]) -> Result<usize> {
        let mut count = 0;
        let wanted = into.len().min(1 << 20) as u32;
        // SAFETY: the buffer has at least as many bytes.
        let ok = unsafe { fs::ReadFile(self.0, into.as_mut_ptr(), wanted, &mut count, core::ptr::null_mut()) };
        done(ok, t!("reading"))?;
        Ok(count as usize)
    }

    /// Fills all of a buffer, as far as the file goes; gives how many bytes those are.
    pub fn fill(&self, into: &mut [u8]) -> Result<usize> {
        let mut there = 0;
        while there < into.len() {
            match self.read(&mut into[there..])? {
                0 => break,
                n => there += n,
            }
        }
        Ok(there)
    }

    pub fn seek(&self, at: u64) -> Result<()> {
        // SAFETY: the handle is open.
        done(unsafe { fs::SetFilePointerEx(self.0, at as i64, core::ptr::null_mut(), fs::FILE_BEGIN) }, t!("seeking"))
    }

    pub fn size(&self) -> Result<u64> {
        let mut size = 0;
        // SAFETY: the handle is open.
        done(unsafe { fs::GetFileSizeEx(self.0, &mut size) }, t!("size"))?;
        Ok(size as u64)
    }

    pub fn write(&self, mut bytes: &[u8], path: Text) -> Result<()> {
        while !bytes.is_empty() {
            let mut count = 0;
            let n = bytes.len().min(1 << 24) as u32;
            // SAFETY: the buffer has as many bytes.
            let ok = unsafe { fs::WriteFile(self.0, bytes.as_ptr(), n, &mut count, core::ptr::null_mut()) };
            done(if count == 0 { 0 } else { ok }, path)?;
            bytes = &bytes[count as usize..];
        }
        Ok(())
    }

    /// Sets when it was last changed: the system's hundredths of microseconds.
    pub fn set_time(&self, (low, high): (u32, u32)) {
        if (low, high) != (0, 0) {
            let time = FILETIME { dwLowDateTime: low, dwHighDateTime: high };
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

/// A file's length, and when it was last changed; none for what is no file.
pub fn seen(path: Text) -> Option<(u64, (u32, u32))> {
    // SAFETY: the structure is plain data, filled by the system; the name ends with a zero.
    unsafe {
        let mut data: fs::WIN32_FILE_ATTRIBUTE_DATA = core::mem::zeroed();
        let ok = fs::GetFileAttributesExW(long(path), fs::GetFileExInfoStandard, (&raw mut data).cast());
        if ok == 0 || data.dwFileAttributes & fs::FILE_ATTRIBUTE_DIRECTORY != 0 {
            return None;
        }
        let size = u64::from(data.nFileSizeHigh) << 32 | u64::from(data.nFileSizeLow);
        Some((size, (data.ftLastWriteTime.dwLowDateTime, data.ftLastWriteTime.dwHighDateTime)))
    }
}

/// A whole file.
pub fn read(path: Text) -> Result<Vec<u8>> {
    let file = File::open(path)?;
    let mut bytes = vec![0; file.size()? as usize];
    let there = file.fill(&mut bytes)?;
    bytes.truncate(there);
    Ok(bytes)
}

/// Writes a whole file; it is on the disk afterwards.
pub fn write(path: Text, bytes: &[u8]) -> Result<()> {
    let file = File::create(path)?;
    file.write(bytes, path)?;
    file.flush();
    Ok(())
}

/// What the system says of a file; all bits for none.
fn attributes(path: Text) -> u32 {
    // SAFETY: the name ends with a zero.
    unsafe { fs::GetFileAttributesW(long(path)) }
}

pub fn exists(path: Text) -> bool {
    attributes(path) != fs::INVALID_FILE_ATTRIBUTES
}

fn has(path: Text, attribute: u32) -> bool {
    let all = attributes(path);
    all != fs::INVALID_FILE_ATTRIBUTES && all & attribute != 0
}

pub fn is_folder(path: Text) -> bool {
    has(path, fs::FILE_ATTRIBUTE_DIRECTORY)
}

/// Whether it leads somewhere else: a link or a mount point.
fn is_link(path: Text) -> bool {
    has(path, fs::FILE_ATTRIBUTE_REPARSE_POINT)
}

/// Moves a file in a way of the system's; its reason when it can't.
fn moved(from: Text, to: Text, flags: u32) -> Result<()> {
    // SAFETY: both names end with a zero.
    done(unsafe { fs::MoveFileExW(long(from), long_at(to, 1), flags) }, to)
}

/// Moves a file, over another one if that is there.
pub fn rename(from: Text, to: Text) -> Result<()> {
    let flags = fs::MOVEFILE_REPLACE_EXISTING | fs::MOVEFILE_COPY_ALLOWED;
    let mut result = moved(from, to, flags);
    // A file that must not be written may still be replaced.
    if result.is_err() && has(to, fs::FILE_ATTRIBUTE_READONLY) {
        may_be_written(to);
        result = moved(from, to, flags);
    }
    result
}

fn may_be_written(path: Text) {
    // SAFETY: the name ends with a zero.
    unsafe { fs::SetFileAttributesW(long(path), fs::FILE_ATTRIBUTE_NORMAL) };
}

/// Has the system move a file when it starts again.
pub fn rename_at_restart(from: Text, to: Text) -> Result<()> {
    moved(from, to, fs::MOVEFILE_REPLACE_EXISTING | fs::MOVEFILE_DELAY_UNTIL_REBOOT)
}

/// Has the system take a file away when it starts again.
pub fn delete_at_restart(path: Text) -> Result<()> {
    // SAFETY: the name ends with a zero; null asks for its removal.
    done(unsafe { fs::MoveFileExW(long(path), core::ptr::null(), fs::MOVEFILE_DELAY_UNTIL_REBOOT) }, path)
}

/// Gives a file one more name; copies it where the disk can't do that.
pub fn hard_link(new: Text, of: Text) -> Result<()> {
    // SAFETY: both names end with a zero.
    unsafe {
        let (to, from) = (long(new), long_at(of, 1));
        if fs::CreateHardLinkW(to, from, core::ptr::null()) != 0 {
            return Ok(());
        }
        done(fs::CopyFileW(from, to, 0), new)
    }
}

/// Copies a file over another one, if there is one.
pub fn copy(from: Text, to: Text) -> Result<()> {
    // SAFETY: both names end with a zero.
    done(unsafe { fs::CopyFileW(long(from), long_at(to, 1), 0) }, to)
}

pub fn delete(path: Text) -> bool {
    // SAFETY: the name ends with a zero.
    let delete = || unsafe { fs::DeleteFileW(long(path)) != 0 };
    delete() || {
        may_be_written(path);
        delete()
    }
}

/// Takes a file away that may be running: at the latest when the system starts again.
pub fn delete_at_last(path: Text) {
    if delete(path) || !exists(path) {
        return;
    }
    // What runs can't be deleted, but it can be moved out of the way: into the folder that goes after this process.
    let to = path_of_gone();
    let left = if !to.is_empty() && rename(path, to).is_ok() { to } else { path };
    let _ = delete_at_restart(left);
}

/// The folder that another process takes away when this one has ended.
static mut GONE: Text = EMPTY;

/// Says which one that is, before there is a second thread.
pub fn goes_afterwards(folder: Text) {
    // SAFETY: there is one thread.
    unsafe { GONE = folder };
}

fn path_of_gone() -> Text {
    // SAFETY: it was set before there was a second thread.
    let folder = unsafe { GONE };
    let folder = if folder.is_empty() { temporary() } else { folder };
    path(folder, cat(&[t!("~gone"), ticks_text()]))
}

/// Takes away what a process leaves that removes itself: now, else when the system starts again, else (nobody but an
/// administrator can ask for that) at this user's next login.
pub fn remove_at_last(folder: Text, administrator: bool, id: Text) {
    remove_tree(folder);
    if !is_folder(folder) {
        return;
    }
    if administrator {
        let _ = delete_at_restart(folder);
        return;
    }
    let shell = path(crate::early::system_folder(), t!("cmd.exe"));
    let line = cat(&[t!("\""), shell, t!("\" /d /q /c rd /s /q \""), folder, t!("\"")]);
    let key = t!("Software\\Microsoft\\Windows\\CurrentVersion\\RunOnce");
    let at = crate::registry::At::new(false, key, cat(&[id, t!("-clean")]));
    let _ = crate::registry::set(at, crate::registry::Data::text(line));
}

/// A number that grows.
pub fn ticks() -> u64 {
    // SAFETY: no preconditions.
    unsafe { windows_sys::Win32::System::SystemInformation::GetTickCount64() }
}

/// The same as a text.
pub fn ticks_text() -> Text {
    hex(&(ticks() as u32).to_be_bytes())
}

/// The folder for temporary files, without a backslash at its end.
pub fn temporary() -> Text {
    let mut buffer = [0u16; 1024];
    // SAFETY: the buffer is as long as is said.
    unsafe { fs::GetTempPathW(buffer.len() as u32, buffer.as_mut_ptr()) };
    Text::up_to_zero(&buffer).without_slash()
}

/// The folder of Windows.
pub fn windows() -> Text {
    let mut buffer = [0u16; 260];
    // SAFETY: the buffer is as long as is said.
    unsafe { windows_sys::Win32::System::SystemInformation::GetSystemWindowsDirectoryW(buffer.as_mut_ptr(), 260) };
    Text::up_to_zero(&buffer).without_slash()
}

/// Who may do what in a fresh folder: administrators and the system everything, others nothing.
const CLOSED: Text = t!("D:P(A;OICI;FA;;;BA)(A;OICI;FA;;;SY)");

/// A folder that nobody has put anything into: an administrator's, where nobody else can write, or this user's own.
pub fn fresh_folder(administrator: bool) -> Result<Text> {
    let base = if administrator { path(windows(), t!("Temp")) } else { temporary() };
    loop {
        let folder = path(base, cat(&[t!("~setup-"), ticks_text()]));
        // SAFETY: the structures are plain data; texts end with a zero; the description is given back with the process.
        let ok = unsafe {
            let mut descriptor = core::ptr::null_mut();
            if administrator {
                let ok = se::Authorization::ConvertStringSecurityDescriptorToSecurityDescriptorW(
                    CLOSED.ptr(),
                    1,
                    &mut descriptor,
                    core::ptr::null_mut(),
                );
                done(ok, folder)?;
            }
            let size = core::mem::size_of::<se::SECURITY_ATTRIBUTES>() as u32;
            let attributes =
                se::SECURITY_ATTRIBUTES { nLength: size, lpSecurityDescriptor: descriptor, bInheritHandle: 0 };
            fs::CreateDirectoryW(long(folder), &attributes)
        };
        if ok != 0 {
            return Ok(folder);
        }
        if !exists(folder) {
            return Err(Fault::last(folder));
        }
        // The next moment has another name.
    }
}

/// Whether it is the name of such a folder.
pub fn is_fresh(folder: Text) -> bool {
    folder.name().begins(t!("~setup-"))
}

/// Makes a folder; its parents have to be there.
pub fn make_folder(path: Text) -> Result<()> {
    // SAFETY: the name ends with a zero.
    let result = done(unsafe { fs::CreateDirectoryW(long(path), core::ptr::null()) }, path);
    if result.is_err() && is_folder(path) {
        Ok(())
    } else {
        result
    }
}

/// The folders above a path that are not there yet, the topmost first; then the path itself if it is missing.
pub fn missing_folders(path: Text) -> Vec<Text> {
    let mut missing = Vec::new();
    let mut now = path;
    while !now.is_empty() && !now.ends(t!(":")) && !exists(now) {
        missing.push(now);
        now = now.parent();
    }
    missing.reverse();
    missing
}

pub fn make_folders(path: Text) -> Result<()> {
    for folder in missing_folders(path) {
        make_folder(folder)?;
    }
    if is_folder(path) {
        Ok(())
    } else {
        Err(Fault::new(code::FAILED, t!("setup-folder"), path))
    }
}

/// Removes a folder if it is empty.
pub fn remove_folder(path: Text) {
    if !is_link(path) {
        // SAFETY: the name ends with a zero.
        unsafe { fs::RemoveDirectoryW(long(path)) };
    }
}

/// The names in a folder.
pub fn names(folder: Text) -> Vec<Text> {
    let mut all = Vec::new();
    // SAFETY: the structure is plain data, filled by the system; the handle is closed once.
    unsafe {
        let mut found: fs::WIN32_FIND_DATAW = core::mem::zeroed();
        let handle = fs::FindFirstFileW(long(path(folder, t!("*"))), &mut found);
        if handle == INVALID_HANDLE_VALUE {
            return all;
        }
        loop {
            let name = Text::up_to_zero(&found.cFileName);
            if !name.is(t!(".")) && !name.is(t!("..")) {
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
pub fn remove_tree(folder: Text) {
    if !is_folder(folder) || is_link(folder) {
        return;
    }
    // SAFETY: no text leaves this function.
    let scope = unsafe { Scope::new() };
    for name in names(folder) {
        let path = path(folder, name);
        if is_folder(path) && !is_link(path) {
            remove_tree(path);
        } else {
            delete_at_last(path);
        }
    }
    drop(scope);
    remove_folder(folder);
}

/// Bytes free on the disk that a folder is on or will be on; all that can be if nobody knows.
pub fn free_space(folder: Text) -> u64 {
    let mut now = folder;
    while !now.is_empty() && !exists(now) {
        now = now.parent();
    }
    let mut free = u64::MAX;
    // SAFETY: the name ends with a zero.
    unsafe {
        fs::GetDiskFreeSpaceExW(long(cat(&[now, t!("\\")])), &mut free, core::ptr::null_mut(), core::ptr::null_mut());
    }
    free
}

/// Asks the system to bring everything that was written on a disk onto it; only administrators may.
pub fn flush_disk(folder: Text) {
    let disk = cat(&[t!("\\\\.\\"), folder.first(2)]);
    if let Ok(disk) = File::with(disk, GENERIC_WRITE, fs::FILE_SHARE_READ | fs::FILE_SHARE_WRITE, fs::OPEN_EXISTING) {
        disk.flush();
    }
}
