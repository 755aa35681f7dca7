//! The environment of the specification, and becoming the program.

use crate::image::Bundle;
use crate::switches::{portable_folder, Request};
use crate::{cache, code, mount, Failure};
use std::convert::Infallible;
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::Command;

/// Mounts and becomes the program; comes back only when mounting is not possible here.
pub fn mounted(bundle: &Bundle, request: &Request) -> Result<mount::Outcome, Failure> {
    match mount::mount(bundle)? {
        Ok(mounted) => Err(become_program(bundle, request, mounted.folder())),
        Err(reasons) => Ok(mount::Outcome::NotPossible(reasons)),
    }
}

/// Unpacks (or finds it unpacked) and becomes the program.
pub fn unpacked(bundle: &Bundle, request: &Request) -> Result<Infallible, Failure> {
    let unpacked = cache::unpack(bundle)?;
    Err(become_program(bundle, request, &unpacked.folder))
}

fn become_program(bundle: &Bundle, request: &Request, folder: &Path) -> Failure {
    let run = folder.join("AppRun");
    let mut command = Command::new(&run);
    command.args(&request.arguments);
    command.env("APPIMAGE", &bundle.path).env("APPDIR", folder).env("ARGV0", &request.name);
    if let Ok(here) = std::env::current_dir() {
        command.env("OWD", here);
    }
    // A start inside a start must decide for itself.
    command.env_remove("APPIMAGE_EXTRACT_AND_RUN");
    let home = portable_folder(bundle, "home");
    if home.is_dir() {
        command.env("HOME", home);
    }
    let config = portable_folder(bundle, "config");
    if config.is_dir() {
        command.env("XDG_CONFIG_HOME", config);
    }
    let error = command.exec();
    let code = if error.kind() == std::io::ErrorKind::NotFound { code::NOT_FOUND } else { code::CANT_RUN };
    Failure { code, sentence: format!("{}: AppRun can't be started: {error}.", bundle.path.display()) }
}
