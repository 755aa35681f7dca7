//! The ladder of mounting: as root by the kernel; as a user by the system's mount helper; else in a namespace of our
//! own. A process that outlives this one answers the kernel; it learns by a pipe that the program and its children have
//! ended, unmounts, and goes.

use crate::image::Bundle;
use crate::tree::Tree;
use crate::{fuse, Failure};
use std::ffi::{CStr, CString, OsStr};
use std::fs;
use std::io::{self, Read, Write};
use std::os::fd::{AsRawFd, FromRawFd, OwnedFd, RawFd};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{DirBuilderExt, MetadataExt};
use std::os::unix::net::UnixStream;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::time::Duration;

const PREFIX: &str = "upper-shelf-mount-";

/// What came of trying to mount and start.
pub enum Outcome {
    /// It can't be mounted here; the reasons, in a sentence.
    NotPossible(String),
}

/// A mounted image. The pipe's end is inherited by the program; when the last holder is gone, it is unmounted.
pub struct Mounted {
    folder: PathBuf,
    _alive: OwnedFd,
}

impl Mounted {
    pub fn folder(&self) -> &Path {
        &self.folder
    }
}

#[derive(Clone, Copy, PartialEq)]
enum Way {
    Kernel,
    Helper,
    OwnNamespace,
}

/// Mounts; the inner error says why it is not possible here (the outer one: the image is damaged).
pub fn mount(bundle: &Bundle) -> Result<Result<Mounted, String>, Failure> {
    let image = bundle.image()?;
    // Damage in the tables shows here, not as a riddle later.
    image.inode(image.root()).and_then(|root| image.entries(&root)).map_err(|e| bundle.damaged(e))?;
    // SAFETY: only asks.
    let root = unsafe { libc::geteuid() } == 0;
    clear_left_behind();
    let folder = match private_folder() {
        Ok(folder) => folder,
        Err(e) => return Ok(Err(format!("no folder to mount it on: {e}"))),
    };
    let mut reasons = Vec::new();
    let ways: &[Way] = if root { &[Way::Kernel, Way::Helper] } else { &[Way::Helper, Way::OwnNamespace] };
    for &way in ways {
        let device = match way {
            Way::Kernel => mount_by_kernel(bundle, &folder),
            Way::Helper => mount_by_helper(bundle, &folder),
            Way::OwnNamespace => mount_in_own_namespace(bundle, &folder),
        };
        match device {
            Ok(device) => {
                return match keep_serving(device, Tree::new(image, bundle.path.clone()), &folder, way) {
                    Ok(alive) => Ok(Ok(Mounted { folder, _alive: alive })),
                    Err(e) => Err(Failure::new(format!("The file system can't be served: {e}."))),
                }
            }
            Err(e) => reasons.push(e.to_string()),
        }
    }
    let _ = fs::remove_dir(&folder);
    Ok(Err(reasons.join("; ")))
}

/// `--appimage-mount`: mounts, prints where, and stays until a signal ends it.
pub fn hold(bundle: &Bundle) -> Result<(), Failure> {
    let mounted = mount(bundle)?.map_err(|why| Failure::new(format!("It can't be mounted here: {why}.")))?;
    println!("{}", mounted.folder().display());
    let _ = io::stdout().flush();
    // SAFETY: the set is initialised before it is used; waiting for signals has no other effect.
    unsafe {
        let mut set = std::mem::zeroed();
        libc::sigemptyset(&mut set);
        for signal in [libc::SIGINT, libc::SIGTERM, libc::SIGHUP, libc::SIGQUIT] {
            libc::sigaddset(&mut set, signal);
        }
        libc::sigprocmask(libc::SIG_BLOCK, &set, std::ptr::null_mut());
        let mut signal = 0;
        libc::sigwait(&set, &mut signal);
    }
    Ok(())
}

/// Where folders to mount on are made: the user's own runtime folder, else the temporary one.
fn places() -> Vec<PathBuf> {
    let own = std::env::var_os("XDG_RUNTIME_DIR").map(PathBuf::from).filter(|p| crate::cache::is_private(p));
    let temporary = std::env::var_os("TMPDIR").map(PathBuf::from).filter(|p| p.is_absolute());
    own.into_iter().chain(temporary).chain([PathBuf::from("/tmp")]).collect()
}

/// A new folder with a name that can't be guessed and mode 0700: nobody else can put anything in its place.
fn private_folder() -> io::Result<PathBuf> {
    let mut last = io::Error::from(io::ErrorKind::NotFound);
    for place in places() {
        for _ in 0..8 {
            let folder = place.join(format!("{PREFIX}{}", crate::cache::random_name()));
            match fs::DirBuilder::new().mode(0o700).create(&folder) {
                Ok(()) => return Ok(folder),
                Err(e) if e.kind() == io::ErrorKind::AlreadyExists => continue,
                Err(e) => last = e,
            }
            break;
        }
    }
    Err(last)
}

/// A server that was killed leaves a dead mount; the next start takes it away. Only the user's own ones.
fn clear_left_behind() {
    for place in places() {
        for entry in fs::read_dir(place).into_iter().flatten().flatten() {
            if !entry.file_name().as_bytes().starts_with(PREFIX.as_bytes()) {
                continue;
            }
            let dead = matches!(fs::metadata(entry.path()), Err(e) if e.raw_os_error() == Some(libc::ENOTCONN));
            if dead {
                unmount(&entry.path(), true);
                let _ = fs::remove_dir(entry.path());
            } else if fs::symlink_metadata(entry.path()).is_ok_and(|m| m.is_dir() && is_old(&m)) {
                // Empty, and not mounted on: removing fails otherwise.
                let _ = fs::remove_dir(entry.path());
            }
        }
    }
}

fn is_old(meta: &fs::Metadata) -> bool {
    let age = meta.modified().ok().and_then(|t| t.elapsed().ok());
    // SAFETY: only asks.
    meta.uid() == unsafe { libc::geteuid() } && age.is_some_and(|age| age > Duration::from_secs(3600))
}

/// The file's name as it shows in the list of mounts: letters that no mount option gives a meaning.
fn shown_name(bundle: &Bundle) -> String {
    let name = bundle.path.file_name().unwrap_or(OsStr::new("AppImage")).to_string_lossy();
    name.chars().map(|c| if c.is_ascii_alphanumeric() || "._-".contains(c) { c } else { '_' }).take(60).collect()
}

fn open_device() -> io::Result<OwnedFd> {
    let device = fs::OpenOptions::new().read(true).write(true).open("/dev/fuse");
    device.map(OwnedFd::from).map_err(|e| io::Error::new(e.kind(), format!("/dev/fuse: {e}")))
}

fn c_string(bytes: &[u8]) -> io::Result<CString> {
    CString::new(bytes).map_err(|_| io::Error::from(io::ErrorKind::InvalidInput))
}

fn mount_by_kernel(bundle: &Bundle, folder: &Path) -> io::Result<OwnedFd> {
    let device = open_device()?;
    // SAFETY: only asks.
    let (uid, gid) = unsafe { (libc::geteuid(), libc::getegid()) };
    let options = format!("fd={},rootmode=40000,user_id={uid},group_id={gid}", device.as_raw_fd());
    let (source, kind) = (c_string(shown_name(bundle).as_bytes())?, c_string(b"fuse.appimage")?);
    let (target, options) = (c_string(folder.as_os_str().as_bytes())?, c_string(options.as_bytes())?);
    let flags = libc::MS_RDONLY | libc::MS_NOSUID | libc::MS_NODEV;
    // SAFETY: all pointers are to strings that live until the call is over.
    let done = unsafe { libc::mount(source.as_ptr(), target.as_ptr(), kind.as_ptr(), flags, options.as_ptr().cast()) };
    if done == 0 {
        Ok(device)
    } else {
        let e = io::Error::last_os_error();
        Err(io::Error::new(e.kind(), format!("mount: {e}")))
    }
}

fn helper() -> io::Result<PathBuf> {
    let path = std::env::var_os("PATH").unwrap_or_default();
    let folders = std::env::split_paths(&path).chain(["/usr/bin", "/bin", "/usr/local/bin"].map(PathBuf::from));
    let folders: Vec<PathBuf> = folders.filter(|p| p.is_absolute()).collect();
    let found =
        ["fusermount3", "fusermount"].iter().find_map(|n| folders.iter().map(|f| f.join(n)).find(|p| p.is_file()));
    found.ok_or_else(|| io::Error::new(io::ErrorKind::NotFound, "fusermount3 is not installed"))
}

/// The helper mounts for us and hands the opened device over a socket.
fn mount_by_helper(bundle: &Bundle, folder: &Path) -> io::Result<OwnedFd> {
    let helper = helper()?;
    let (ours, theirs) = UnixStream::pair()?;
    let fd = theirs.as_raw_fd();
    let name = shown_name(bundle);
    let mut command = Command::new(&helper);
    command.arg("-o").arg(format!("ro,nosuid,nodev,fsname={name},subtype=appimage")).arg("--").arg(folder);
    command.env("_FUSE_COMMFD", fd.to_string()).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
    // SAFETY: between fork and exec only fcntl is called.
    unsafe {
        command.pre_exec(move || match libc::fcntl(fd, libc::F_SETFD, 0) {
            -1 => Err(io::Error::last_os_error()),
            _ => Ok(()),
        });
    }
    let mut child = command.spawn()?;
    drop(theirs);
    let received = receive_descriptor(&ours);
    let status = child.wait()?;
    received.map_err(|_| io::Error::other(format!("{} refused ({status})", helper.display())))
}

fn receive_descriptor(socket: &UnixStream) -> io::Result<OwnedFd> {
    let mut byte = [0u8; 1];
    let mut control = [0u64; 8];
    let mut part = libc::iovec { iov_base: byte.as_mut_ptr().cast(), iov_len: 1 };
    // SAFETY: the message's pointers are to live buffers of the lengths given; what comes back is checked before use.
    unsafe {
        let mut message: libc::msghdr = std::mem::zeroed();
        message.msg_iov = &mut part;
        message.msg_iovlen = 1;
        message.msg_control = control.as_mut_ptr().cast();
        message.msg_controllen = std::mem::size_of_val(&control) as _;
        if libc::recvmsg(socket.as_raw_fd(), &mut message, libc::MSG_CMSG_CLOEXEC) <= 0 {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        let header = libc::CMSG_FIRSTHDR(&message);
        if header.is_null() || (*header).cmsg_level != libc::SOL_SOCKET || (*header).cmsg_type != libc::SCM_RIGHTS {
            return Err(io::ErrorKind::InvalidData.into());
        }
        let fd = libc::CMSG_DATA(header).cast::<RawFd>().read_unaligned();
        Ok(OwnedFd::from_raw_fd(fd))
    }
}

/// A user namespace in which we may mount for ourselves. It is tried in a child first: a process can't go back.
fn mount_in_own_namespace(bundle: &Bundle, folder: &Path) -> io::Result<OwnedFd> {
    let attempt = || enter_namespace().and_then(|()| mount_by_kernel(bundle, folder));
    // SAFETY: there is one thread; the child only tries and ends.
    match unsafe { libc::fork() } {
        -1 => return Err(io::Error::last_os_error()),
        0 => {
            let code = attempt().map_or_else(|e| e.raw_os_error().unwrap_or(1).clamp(1, 255), |_| 0);
            unsafe { libc::_exit(code) }
        }
        child => {
            let mut status = 0;
            // SAFETY: waits for our own child.
            unsafe { libc::waitpid(child, &mut status, 0) };
            if status != 0 {
                return Err(io::Error::other("mounting in a user namespace isn't possible"));
            }
        }
    }
    attempt()
}

fn enter_namespace() -> io::Result<()> {
    // SAFETY: only asks, then changes this process's own namespaces.
    let (uid, gid) = unsafe { (libc::geteuid(), libc::getegid()) };
    if unsafe { libc::unshare(libc::CLONE_NEWUSER | libc::CLONE_NEWNS) } != 0 {
        return Err(io::Error::last_os_error());
    }
    fs::write("/proc/self/setgroups", "deny")?;
    fs::write("/proc/self/uid_map", format!("{uid} {uid} 1"))?;
    fs::write("/proc/self/gid_map", format!("{gid} {gid} 1"))?;
    let (none, root): (&CStr, &CStr) = (c"none", c"/");
    // SAFETY: pointers to constant strings.
    let private = unsafe {
        libc::mount(none.as_ptr(), root.as_ptr(), std::ptr::null(), libc::MS_REC | libc::MS_PRIVATE, std::ptr::null())
    };
    if private == 0 {
        Ok(())
    } else {
        Err(io::Error::last_os_error())
    }
}

/// Starts the process that answers the kernel. Gives the pipe's end whose closing tells it that all is over.
fn keep_serving(device: OwnedFd, tree: Tree, folder: &Path, way: Way) -> io::Result<OwnedFd> {
    let (ended, alive) = pipe()?;
    // SAFETY: there is one thread, so that the child has the same state as we.
    match unsafe { libc::fork() } {
        -1 => Err(io::Error::last_os_error()),
        0 => {
            drop(alive);
            // A second child belongs to the system's first process: the program never sees it.
            // SAFETY: as above.
            if unsafe { libc::fork() } != 0 {
                unsafe { libc::_exit(0) }
            }
            // SAFETY: changes this process only.
            unsafe { libc::setsid() };
            let keep = [device.as_raw_fd(), ended.as_raw_fd(), tree.image.source().source().as_raw_fd()];
            let _ = std::env::set_current_dir("/");
            let_go_of_everything(&keep);
            fuse::serve(&Arc::new(device), &Arc::new(tree));
            let mut ended = fs::File::from(ended);
            // Nobody writes: this ends when the last holder has gone.
            let _ = ended.read(&mut [0]);
            end_mount(folder, way);
            unsafe { libc::_exit(0) }
        }
        child => {
            // SAFETY: waits for our own child, which ends at once.
            unsafe { libc::waitpid(child, std::ptr::null_mut(), 0) };
            drop(device);
            inheritable(alive)
        }
    }
}

pub fn pipe() -> io::Result<(OwnedFd, OwnedFd)> {
    let mut ends = [0; 2];
    // SAFETY: two descriptors are written to a place for two.
    if unsafe { libc::pipe2(ends.as_mut_ptr(), libc::O_CLOEXEC) } != 0 {
        return Err(io::Error::last_os_error());
    }
    // SAFETY: both were just opened for us.
    Ok(unsafe { (OwnedFd::from_raw_fd(ends[0]), OwnedFd::from_raw_fd(ends[1])) })
}

/// A copy that a started program keeps, with a number that no program counts on.
pub fn inheritable(fd: OwnedFd) -> io::Result<OwnedFd> {
    // SAFETY: copies our own descriptor.
    match unsafe { libc::fcntl(fd.as_raw_fd(), libc::F_DUPFD, 200) } {
        -1 => Err(io::Error::last_os_error()),
        copy => Ok(unsafe { OwnedFd::from_raw_fd(copy) }),
    }
}

/// Closes all but some descriptors and points the standard ones nowhere: a reader of the program's output must not
/// wait for this process.
pub fn let_go_of_everything(keep: &[RawFd]) {
    let open: Vec<RawFd> = fs::read_dir("/proc/self/fd")
        .into_iter()
        .flatten()
        .flatten()
        .filter_map(|e| e.file_name().to_str()?.parse().ok())
        .collect();
    // SAFETY: nothing else in this process uses a descriptor that is closed here.
    unsafe {
        for fd in open.into_iter().filter(|fd| *fd > 2 && !keep.contains(fd)) {
            libc::close(fd);
        }
        let null = libc::open(c"/dev/null".as_ptr(), libc::O_RDWR);
        for fd in 0..3 {
            libc::dup2(null, fd);
        }
        for signal in [libc::SIGINT, libc::SIGHUP, libc::SIGQUIT, libc::SIGPIPE, libc::SIGTERM] {
            libc::signal(signal, libc::SIG_IGN);
        }
    }
}

/// Unmounts once nothing is in use any more, and removes the folder.
fn end_mount(folder: &Path, way: Way) {
    let mut pause = Duration::from_millis(5);
    loop {
        let done = match way {
            // In a namespace of our own nobody else can hold it: let go, the kernel does the rest.
            Way::OwnNamespace => unmount(folder, true),
            Way::Kernel | Way::Helper => unmount(folder, false),
        };
        if done || fs::remove_dir(folder).is_ok() {
            break;
        }
        std::thread::sleep(pause);
        pause = (pause * 2).min(Duration::from_secs(2));
    }
    let _ = fs::remove_dir(folder);
}

fn unmount(folder: &Path, lazily: bool) -> bool {
    let Ok(target) = c_string(folder.as_os_str().as_bytes()) else { return false };
    let flags = if lazily { libc::MNT_DETACH } else { 0 };
    // SAFETY: a pointer to a live string.
    if unsafe { libc::umount2(target.as_ptr(), flags | libc::UMOUNT_NOFOLLOW) } == 0 {
        return true;
    }
    // Not mounted any more is as good as unmounted.
    if io::Error::last_os_error().raw_os_error() == Some(libc::EINVAL) {
        return true;
    }
    let Ok(helper) = helper() else { return false };
    let mut command = Command::new(helper);
    command.arg(if lazily { "-uz" } else { "-u" }).arg("--").arg(folder);
    command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
    command.status().is_ok_and(|s| s.success())
}
