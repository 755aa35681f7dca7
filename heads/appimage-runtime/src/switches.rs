//! The specification's own switches. Everything else on the command line belongs to the program inside.

use crate::image::Bundle;
use crate::{code, mount, unpack, Failure};
use std::ffi::OsString;
use std::io::Write;
use std::process::exit;

const HELP: &str = "\
This file is an AppImage: a program with everything it needs, in one file. Start it, and the program starts.

Switches of the file itself (all others go to the program):
  --appimage-help               print this
  --appimage-extract [PATTERN]  unpack into the folder squashfs-root here; PATTERN limits it (* and ? stand for anything)
  --appimage-extract-and-run    unpack into the cache and start from there, as APPIMAGE_EXTRACT_AND_RUN=1 does
  --appimage-mount              mount, print where, and stay until ended
  --appimage-offset             print where the file system image begins, in bytes
  --appimage-portable-home      make a folder beside this file that is the program's home from now on
  --appimage-portable-config    the same for its settings only
  --appimage-signature          print the embedded signature
  --appimage-updateinformation  print the embedded update information
  --appimage-version            print the version of this head

Exit codes of the file itself: 125 damaged, or neither mounted nor unpacked; 126 can't be run; 127 nothing to run.
";

/// What the command line and the environment ask of the head.
pub struct Request {
    /// The name under which the file was started.
    pub name: OsString,
    /// The program's arguments.
    pub arguments: Vec<OsString>,
    pub unpack_and_run: bool,
    switch: Option<Switch>,
}

enum Switch {
    Help,
    Version,
    Offset,
    Mount,
    Extract(Option<OsString>),
    PortableFolder(&'static str),
    Section(&'static str),
}

impl Request {
    pub fn from_arguments() -> Result<Self, Failure> {
        let mut all = std::env::args_os();
        let name = all.next().unwrap_or_default();
        let mut arguments: Vec<OsString> = all.collect();
        let by_environment = std::env::var_os("APPIMAGE_EXTRACT_AND_RUN").is_some_and(|v| !v.is_empty() && v != "0");
        let mut request = Self { name, arguments: Vec::new(), unpack_and_run: by_environment, switch: None };
        let first = arguments.first().and_then(|a| a.to_str()).unwrap_or_default().to_owned();
        let switch = match first.as_str() {
            "--appimage-help" => Some(Switch::Help),
            "--appimage-version" => Some(Switch::Version),
            "--appimage-offset" => Some(Switch::Offset),
            "--appimage-mount" => Some(Switch::Mount),
            "--appimage-extract" => Some(Switch::Extract(arguments.get(1).cloned())),
            "--appimage-portable-home" => Some(Switch::PortableFolder("home")),
            "--appimage-portable-config" => Some(Switch::PortableFolder("config")),
            "--appimage-signature" => Some(Switch::Section(".sha256_sig")),
            "--appimage-updateinformation" | "--appimage-updateinfo" => Some(Switch::Section(".upd_info")),
            "--appimage-extract-and-run" => {
                request.unpack_and_run = true;
                arguments.remove(0);
                None
            }
            other if other.starts_with("--appimage-") => {
                let sentence = format!("{other}: unknown switch; --appimage-help lists all.");
                return Err(Failure { code: 2, sentence });
            }
            _ => None,
        };
        request.switch = switch;
        request.arguments = arguments;
        Ok(request)
    }
}

/// Answers a switch and ends; does nothing when there is none.
pub fn answer(request: &Request, bundle: &Bundle) -> Result<(), Failure> {
    let Some(switch) = &request.switch else { return Ok(()) };
    match switch {
        Switch::Help => print(HELP.as_bytes()),
        Switch::Version => print(format!("Upper Shelf AppImage head {}\n", env!("CARGO_PKG_VERSION")).as_bytes()),
        Switch::Offset => print(format!("{}\n", bundle.offset).as_bytes()),
        Switch::Section(name) => {
            let bytes = bundle.section(name).unwrap_or_default();
            let end = bytes.iter().position(|&b| b == 0).unwrap_or(bytes.len());
            if end > 0 {
                print(&[&bytes[..end], b"\n"].concat());
            }
        }
        Switch::PortableFolder(kind) => {
            let folder = portable_folder(bundle, kind);
            let made = std::fs::create_dir(&folder).or_else(|e| match e.kind() {
                std::io::ErrorKind::AlreadyExists => Ok(()),
                _ => Err(e),
            });
            made.map_err(|e| Failure::new(format!("{}: {e}.", folder.display())))?;
            print(format!("The program's {kind} folder is now {}.\n", folder.display()).as_bytes());
        }
        Switch::Extract(pattern) => {
            let image = bundle.image()?;
            let to = std::path::Path::new("squashfs-root");
            let pattern = pattern.as_ref().map(|p| p.as_encoded_bytes());
            unpack::into_existing(&image, to, pattern).map_err(|e| e.into_failure(bundle))?;
            print(b"squashfs-root\n");
        }
        Switch::Mount => mount::hold(bundle)?,
    }
    exit(0)
}

/// `NAME.home` or `NAME.config` beside the file.
pub fn portable_folder(bundle: &Bundle, kind: &str) -> std::path::PathBuf {
    let mut name = bundle.path.clone().into_os_string();
    name.push(format!(".{kind}"));
    name.into()
}

fn print(bytes: &[u8]) {
    if std::io::stdout().write_all(bytes).is_err() {
        exit(code::CANT_START);
    }
}
