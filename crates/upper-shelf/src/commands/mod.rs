//! One file a command: its arguments, whose doc comments are its help, and its `run`.

pub mod build;
pub mod cache;
pub mod check;
pub mod compare;
pub mod demo;
pub mod extract;
pub mod icons;
pub mod init;
pub mod inspect;
pub mod keys;
pub mod notarize;
pub mod plan;
pub mod preview;
pub mod runtimes;
pub mod shell;
pub mod sign;
pub mod simulate;
mod simulate_notary;
pub mod verify;

use crate::output::Output;
use std::path::{Path, PathBuf};
use upper_shelf_core::manifest::{self, Project};
use upper_shelf_core::packaging::{Options, Plan};
use upper_shelf_core::platform::Platform;
use upper_shelf_core::settings::TargetName;
use upper_shelf_core::{Failure, packaging as core};

/// What several commands take: the manifest, and a choice of what is built.
#[derive(Debug, clap::Args)]
pub struct ProjectArgs {
    /// The manifest, or the folder that it is in
    #[arg(default_value = ".", value_name = "MANIFEST")]
    pub manifest: PathBuf,
    /// Only for this platform (may be given several times)
    #[arg(long, value_name = "NAME", value_parser = platform)]
    pub platform: Vec<Platform>,
    /// Only packages of this format (may be given several times)
    #[arg(long, value_name = "FORMAT", value_parser = target)]
    pub target: Vec<TargetName>,
    /// Fetch nothing: what layers are made of has to be in the cache
    #[arg(long)]
    pub offline: bool,
}

/// What every command takes that reads finished packages.
#[derive(Debug, clap::Args)]
pub struct LimitArgs {
    /// Multiply the limits of what a package may contain: names, metadata, uncompressed bytes for its size
    #[arg(long, value_name = "N", default_value_t = 1, value_parser = clap::value_parser!(u64).range(1..))]
    pub limit: u64,
}

fn platform(name: &str) -> Result<Platform, String> {
    let names = || Platform::ALL.map(Platform::name).join(", ");
    name.parse().map_err(|e| format!("{e}; there are {}", names()))
}

fn target(name: &str) -> Result<TargetName, String> {
    let all = upper_shelf_core::targets::TARGETS.map(|t| t.target());
    all.into_iter()
        .find(|t| t.name() == name)
        .ok_or_else(|| format!("there are {}", all.map(TargetName::name).join(", ")))
}

/// The platform this program runs on.
pub fn host() -> Platform {
    match (std::env::consts::OS, std::env::consts::ARCH) {
        ("windows", "x86") => Platform::WindowsX86,
        ("windows", "aarch64") => Platform::WindowsArm64,
        ("windows", _) => Platform::WindowsX64,
        ("macos", "aarch64") => Platform::MacosArm64,
        ("macos", _) => Platform::MacosX64,
        (_, "aarch64") => Platform::LinuxArm64,
        _ => Platform::LinuxX64,
    }
}

/// Reads the manifest and plans everything; nothing is written.
pub fn load(args: &ProjectArgs, out: &Output) -> Result<(Project, Vec<Plan>), Failure> {
    load_for(args, None, false, out)
}

/// The same for packages that are put into a folder of one's own choice, with keys that may be elsewhere.
pub fn load_for(
    args: &ProjectArgs,
    output: Option<&Path>,
    keys_elsewhere: bool,
    out: &Output,
) -> Result<(Project, Vec<Plan>), Failure> {
    let project = manifest::load(&args.manifest, &|name| std::env::var(name).ok())?;
    out.detail(format!("manifest {}", project.file.display()));
    let some = |list: Vec<_>| (!list.is_empty()).then_some(list);
    let options = Options {
        platforms: some(args.platform.clone()),
        targets: (!args.target.is_empty()).then(|| args.target.clone()),
        host: host(),
        epoch: std::env::var("SOURCE_DATE_EPOCH").ok(),
        output: output.map(Path::to_owned),
        keys_elsewhere,
    };
    if !args.offline {
        cache::ready(&project, &core::sources_of(&project, options.platforms.as_deref(), options.host), out)?;
    }
    let plans = core::plan(&project, &options)?;
    for plan in &plans {
        let platform = plan.product.platform;
        for layer in &plan.product.layers {
            out.detail(format!("{platform}: layer {} from {}", layer.label, layer.from.display()));
        }
        for default in &plan.defaults {
            out.detail(format!("{platform}: {} = {} ({})", default.key, default.value, default.why));
        }
    }
    Ok((project, plans))
}

/// The certificates of authorities that are trusted, out of files.
pub fn roots(files: &[PathBuf]) -> Result<Vec<upper_shelf_core::signing::Certificate>, Failure> {
    let all: Result<Vec<_>, Failure> = files.iter().map(|file| upper_shelf_core::signing::certificates(file)).collect();
    Ok(all?.concat())
}

/// A path as people like to see it: relative to where they stand, where it is below.
pub fn shown(path: &Path) -> String {
    let here = std::env::current_dir().ok();
    let below = here.as_deref().and_then(|h| path.strip_prefix(h).ok()).unwrap_or(path);
    let below = below.strip_prefix(".").unwrap_or(below);
    if below.as_os_str().is_empty() { ".".into() } else { below.display().to_string() }
}
