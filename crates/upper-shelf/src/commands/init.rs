//! `init`

use crate::exit::Exit;
use crate::output::Output;
use serde::Serialize;
use std::path::{Path, PathBuf};
use upper_shelf_core::footprint::text_bytes;
use upper_shelf_core::manifest::FILE_NAME;
use upper_shelf_core::platform::Platform;
use upper_shelf_core::problem::{Code, Problem};
use upper_shelf_core::recognise::FileKind;
use upper_shelf_core::scan::{self, Scan};
use upper_shelf_core::{Failure, Kind};

/// Scan a folder of built files and write a short manifest that builds as it is
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The folder with the built files
    folder: PathBuf,
    /// Write the manifest here
    #[arg(short, long, value_name = "FILE", default_value = FILE_NAME)]
    output: PathBuf,
    /// Overwrite an existing manifest
    #[arg(long)]
    replace: bool,
}

/// What `init` prints.
#[derive(Serialize, schemars::JsonSchema)]
pub struct Proposed<'s> {
    /// The manifest that was written.
    manifest: &'s Path,
    /// What the folder holds.
    found: &'s Scan,
}

pub fn run(args: Args, out: &mut Output) -> Result<Exit, Failure> {
    let scan = scan::scan(&args.folder)?;
    if args.output.exists() && !args.replace {
        let problem = Problem::error(Code::DestinationExists, format!("{} already exists", args.output.display()))
            .on(&args.output);
        return Err(Failure::new(
            Kind::Problems,
            problem.instead("--replace to overwrite it, or --output for another place"),
        ));
    }
    let beside = args.output.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let from = relative(beside, &args.folder);
    let inside = from == ".";
    let own: &[&str] = if inside { &["/shelf.toml", "/shelf.lock", "/packages"] } else { &[] };
    let text = scan.manifest(&from, own);
    std::fs::write(&args.output, text).map_err(|e| Failure::io("can't write", &args.output, e))?;
    if out.json {
        out.result(&Proposed { manifest: &args.output, found: &scan });
        return Ok(Exit::Done);
    }
    out.heading(&format!(
        "{} file{}, {} in {}",
        scan.files,
        if scan.files == 1 { "" } else { "s" },
        text_bytes(scan.bytes),
        super::shown(&args.folder)
    ));
    for (kind, count) in &scan.kinds {
        let name = match (*kind, *count) {
            (kind, 1) => kind.to_owned(),
            ("Linux library", _) => "Linux libraries".to_owned(),
            ("Windows library", _) => "Windows libraries".to_owned(),
            ("macOS library", _) => "macOS libraries".to_owned(),
            (kind, _) => format!("{kind}s"),
        };
        out.line(format!("  {count} {name}"));
    }
    if scan.web_runtime {
        out.line("  a bundled web runtime");
    }
    let of = |platform: &Platform| {
        let folder = format!("{platform}/");
        scan.programs.iter().find(|c| c.path.starts_with(&folder))
    };
    let mains: Vec<_> = match scan.platforms.as_slice() {
        [] => scan.programs.first().into_iter().collect(),
        platforms => platforms.iter().filter_map(of).collect(),
    };
    if let Some(one) = &scan.on_runtime {
        let runtime = match &one.folder {
            Some(folder) => format!("which is in {folder}"),
            None => "which isn't in the folder".to_owned(),
        };
        out.line(format!("  program  {} (runs on {}, {runtime})", one.path, one.kind.title()));
    }
    for main in mains.iter().filter(|_| scan.on_runtime.is_none()) {
        out.line(format!("  program  {} ({})", main.path, describe(main.kind)));
    }
    if scan.on_runtime.is_none() && mains.is_empty() {
        out.line("  no program was found: add a [[program]] for what users start");
    }
    if let Some((library, by)) = scan.libraries.first_key_value() {
        let more =
            if scan.libraries.len() > 1 { format!(" and {} more", scan.libraries.len() - 1) } else { String::new() };
        out.line(format!("  needs    {library}{more}, which not every machine has ({by})"));
    }
    if let Some(icon) = &scan.icon {
        out.line(format!("  icon     {icon}"));
    }
    if let Some(scan::Found { value: version, place }) = &scan.version {
        out.line(format!("  version  {version}, from {place}"));
    }
    out.line("");
    out.good(&format!("wrote {}", super::shown(&args.output)));
    let manifest = if args.output.file_name().is_some_and(|n| n == FILE_NAME) && beside == Path::new(".") {
        String::new()
    } else {
        format!(" {}", super::shown(&args.output))
    };
    out.line(format!(
        "Next: set your own id in it, then run `upper-shelf plan{manifest}` and `upper-shelf build{manifest}`"
    ));
    Ok(Exit::Done)
}

fn describe(kind: FileKind) -> String {
    match kind {
        FileKind::ElfProgram(platform) | FileKind::MachOProgram(platform) => platform.to_string(),
        FileKind::PeProgram(platform, true) => format!("{platform}, needs a console"),
        FileKind::PeProgram(platform, false) => platform.to_string(),
        FileKind::Jar => "Java archive".into(),
        FileKind::Script => "script".into(),
        FileKind::ElfLibrary | FileKind::PeLibrary | FileKind::MachOLibrary => "library".into(),
    }
}

/// The way from a folder to another, with `/`; the whole path of one on another drive.
fn relative(from: &Path, to: &Path) -> String {
    let whole = |p: &Path| std::fs::canonicalize(p).unwrap_or_else(|_| p.to_owned());
    let names = |p: &Path| -> Vec<String> { p.components().map(|c| c.as_os_str().to_string_lossy().into()).collect() };
    way(&names(&whole(from)), &names(&whole(to))).unwrap_or_else(|| {
        let to = std::path::absolute(to).unwrap_or_else(|_| to.to_owned());
        to.to_string_lossy().replace('\\', "/")
    })
}

/// The way between two whole paths, by their components; nothing if they have not even the drive in common.
fn way(from: &[String], to: &[String]) -> Option<String> {
    let common = from.iter().zip(to).take_while(|(a, b)| a == b).count();
    if common == 0 {
        return None;
    }
    let up = from.iter().skip(common).map(|_| "..");
    let way: Vec<&str> = up.chain(to.iter().skip(common).map(String::as_str)).collect();
    Some(if way.is_empty() { ".".into() } else { way.join("/") })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_folder_on_another_drive_has_no_way_to_it() {
        let path = |names: &[&str]| names.iter().map(|n| (*n).to_owned()).collect::<Vec<_>>();
        let from = path(&[r"\\?\C:", r"\", "work"]);
        assert_eq!(way(&from, &path(&[r"\\?\C:", r"\", "work", "built"])).as_deref(), Some("built"));
        assert_eq!(way(&from, &path(&[r"\\?\C:", r"\", "built"])).as_deref(), Some("../built"));
        assert_eq!(way(&from, &from).as_deref(), Some("."));
        assert_eq!(way(&from, &path(&[r"\\?\E:", r"\", "built"])), None);
    }
}
