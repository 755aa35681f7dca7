//! `demo`

use super::ProjectArgs;
use crate::exit::Exit;
use crate::output::Output;
use include_dir::{Dir, include_dir};
use serde::Serialize;
use std::path::{Path, PathBuf};
use upper_shelf_core::packaging::Built;
use upper_shelf_core::problem::{Code, Problem};
use upper_shelf_core::signing;
use upper_shelf_core::signing::test_keys::{self, KeyKind};
use upper_shelf_core::{Failure, Kind};

static FILES: Dir = include_dir!("$CARGO_MANIFEST_DIR/../../demo/files");

/// Build the example product Combwright, with all its packages, in a folder
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The folder; it must not exist, or be from an earlier demo
    #[arg(default_value = "upper-shelf-demo")]
    folder: PathBuf,
}

/// What `demo` prints.
#[derive(Serialize, schemars::JsonSchema)]
pub struct Demo {
    /// Where everything is.
    folder: PathBuf,
    /// The packages that were built.
    packages: Vec<Built>,
}

pub fn run(args: Args, out: &mut Output) -> Result<Exit, Failure> {
    let mark = args.folder.join("combwright/shelf.toml");
    if args.folder.exists() && !mark.exists() && std::fs::read_dir(&args.folder).is_ok_and(|mut d| d.next().is_some()) {
        let problem = Problem::error(
            Code::DestinationExists,
            format!("{} already exists and isn't from a demo", args.folder.display()),
        );
        return Err(Failure::new(
            Kind::Problems,
            problem.on(&args.folder).instead("choose another folder, or an empty one"),
        ));
    }
    unpack(&FILES, &args.folder.join("combwright"))?;
    sign_with_test_keys(&args.folder)?;
    out.heading("Combwright, the hive journal of the Fernhollow Apiary Works: built files and a manifest");
    let mut packages = Vec::new();
    for manifest in ["previous.toml", "shelf.toml"] {
        let project = ProjectArgs {
            offline: false,
            manifest: args.folder.join("combwright").join(manifest),
            platform: Vec::new(),
            target: Vec::new(),
        };
        packages.extend(super::build::build_packages(&project, Some(args.folder.join("packages")), None, None, out)?);
    }
    if out.json {
        out.result(&Demo { folder: args.folder, packages });
        return Ok(Exit::Done);
    }
    for built in &packages {
        out.good(&format!(
            "{:<60} {:>9}",
            super::shown(&built.file),
            upper_shelf_core::footprint::text_bytes(built.bytes)
        ));
    }
    let at = super::shown(&args.folder);
    let machine = super::host();
    out.line("");
    out.heading("What to look at");
    out.line(format!("  {at}/combwright/shelf.toml       the manifest: all that was written by hand"));
    out.line(format!("  {at}/packages/                   what was made from it"));
    out.line("");
    out.heading("What to try next");
    out.line(format!("  upper-shelf plan {at}/combwright --platform linux-x64"));
    out.line(format!("  upper-shelf preview {at}/combwright"));
    out.line(format!("  upper-shelf inspect {at}/packages/Combwright-2.4.0-linux-x64.AppImage"));
    out.line(format!("  upper-shelf compare {at}/packages/Combwright-2.3.0-linux-x64.AppImage {at}/packages/Combwright-2.4.0-linux-x64.AppImage"));
    out.line(format!("  upper-shelf inspect {at}/packages/Combwright-2.4.0-windows-x64.msi"));
    out.line(format!(
        "  upper-shelf verify {at}/packages/Combwright-2.4.0-windows-x64.exe --roots {at}/keys/test-authority.pem"
    ));
    if machine.system() == upper_shelf_core::platform::System::Linux {
        out.line(format!(
            "  {at}/packages/Combwright-2.4.0-{machine}.AppImage            (a window; --report for text)"
        ));
        out.line(format!(
            "  tar xf {at}/packages/Combwright-2.4.0-{machine}.tar.gz && Combwright-2.4.0-{machine}/install.sh --user"
        ));
    }
    Ok(Exit::Done)
}

/// What is signed with the demo's own keys is made known to the manifest.
const SIGNING: &str = r#"
# These keys were made by `upper-shelf keys make`, for this folder only: nobody else trusts them.
[signing.windows]
key = "../keys/code-signing.key.pem"
certificate = "../keys/code-signing.pem"

[signing.macos]
key = "../keys/code-signing.key.pem"
certificate = "../keys/code-signing.pem"
"#;

/// Makes keys that nobody else has, once, and names them in the manifest.
fn sign_with_test_keys(folder: &Path) -> Result<(), Failure> {
    let keys = folder.join("keys");
    if !keys.join("code-signing.key.pem").exists() {
        test_keys::make(&keys, "Fernhollow Apiary Works", KeyKind::P256, signing::now())?;
    }
    let manifest = folder.join("combwright/shelf.toml");
    let text = std::fs::read_to_string(&manifest).map_err(|e| Failure::io("can't read", &manifest, e))?;
    std::fs::write(&manifest, text + SIGNING).map_err(|e| Failure::io("can't write", &manifest, e))
}

fn unpack(dir: &Dir, to: &Path) -> Result<(), Failure> {
    std::fs::create_dir_all(to).map_err(|e| Failure::io("can't make", to, e))?;
    for file in dir.files() {
        let path = to.join(file.path().file_name().unwrap_or_default());
        // The contents only: files made here must be writable the next time.
        std::fs::write(&path, file.contents()).map_err(|e| Failure::io("can't write", &path, e))?;
        #[cfg(unix)]
        {
            use std::os::unix::fs::PermissionsExt;
            // Programs of Linux and macOS, and scripts.
            let runs = [&b"\x7fELF"[..], b"\xcf\xfa\xed\xfe", b"#!"].iter().any(|m| file.contents().starts_with(m));
            let mode = std::fs::Permissions::from_mode(if runs { 0o755 } else { 0o644 });
            std::fs::set_permissions(&path, mode).map_err(|e| Failure::io("can't write", &path, e))?;
        }
    }
    for sub in dir.dirs() {
        unpack(sub, &to.join(sub.path().file_name().unwrap_or_default()))?;
    }
    Ok(())
}
