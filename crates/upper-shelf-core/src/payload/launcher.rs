//! Launchers for Windows: small programs of the product's name and picture that start another one with what the
//! manifest says. They become files of the payload, so every format carries them as any other file.

use super::brand::{for_terminal, product_version};
use super::{Payload, PayloadFile, Source};
use crate::command_line::in_quotes;
use crate::footprint::{Identity, Node, Program, RelPath, WorkingFolder};
use crate::icons::Icon;
use crate::platform::Platform;
use crate::problem::{Code, Problem};
use pe_image::{Image, Key, Manifest, set_icon};

/// The kind and number of the resource that the launcher reads.
const DATA: u16 = 10;
const NUMBER: u16 = 1;
const INSTALL: &str = "{install}";
/// A command line has up to so many letters.
const ROOM: usize = 32_000;

fn head(platform: Platform) -> &'static [u8] {
    match platform {
        Platform::WindowsX86 => include_bytes!("../../heads/launcher-x86.exe"),
        Platform::WindowsArm64 => include_bytes!("../../heads/launcher-arm64.exe"),
        _ => include_bytes!("../../heads/launcher-x64.exe"),
    }
}

/// What the launcher is told.
fn told(launcher: &RelPath, program: &Program) -> Vec<u8> {
    let Program { key: _, file, arguments, environment, unset, working_folder, console: _ } = program;
    let windows = |path: &RelPath| path.as_str().replace('/', "\\");
    let with_folder = |text: &str| text.replace(&format!("{INSTALL}/"), "\u{1}\\").replace(INSTALL, "\u{1}");
    let mut texts = vec![
        launcher.as_str().matches('/').count().to_string(),
        windows(file),
        match working_folder {
            WorkingFolder::Unchanged => String::new(),
            WorkingFolder::Home => "~".into(),
            WorkingFolder::Install => ".".into(),
            WorkingFolder::Inside(path) => windows(path),
        },
        // What is put in for the product's folder may have blanks.
        arguments.iter().map(|a| in_quotes(&with_folder(a))).collect::<Vec<_>>().join(" "),
    ];
    texts.extend(environment.iter().map(|(name, value)| format!("{name}={}", with_folder(value))));
    texts.extend(unset.iter().cloned());
    texts.push(String::new());
    texts.iter().flat_map(|t| t.encode_utf16().chain([0])).flat_map(u16::to_le_bytes).collect()
}

fn branded(
    platform: Platform,
    launcher: &RelPath,
    program: &Program,
    product: &Identity,
    icon: &Icon,
) -> Result<Vec<u8>, pe_image::Error> {
    let image = Image::parse(head(platform))?;
    let mut resources = image.resources()?;
    let picture = icon.ico()?;
    set_icon(&mut resources, &picture)?;
    product_version(launcher.name(), product).put(&mut resources);
    Manifest { administrator: false, themed: false, every_resolution: false, long_paths: true }.put(&mut resources);
    resources.put(DATA, Key::Id(NUMBER), 0, told(launcher, program));
    let mut bytes = image.with_resources(&resources)?;
    if program.console {
        for_terminal(&mut bytes);
    }
    Ok(bytes)
}

/// Puts a launcher for a program into the payload, and has the program be the launcher. Gives what is wrong.
pub fn add(
    payload: &mut Payload,
    platform: Platform,
    path: &str,
    program: &mut Program,
    product: &Identity,
    icon: &Icon,
) -> Vec<Problem> {
    let wrong =
        |what: String, why: &str, instead: &str| vec![Problem::error(Code::Program, what).why(why).instead(instead)];
    let launcher = match RelPath::new(path.replace('\\', "/")) {
        Ok(launcher) if launcher.name().to_lowercase().ends_with(".exe") => launcher,
        Ok(_) => {
            return wrong(
                format!("the launcher {path:?} isn't a program"),
                "its name must end with .exe",
                "launcher = \"Combwright.exe\"",
            );
        }
        Err(why) => {
            return wrong(
                format!("the launcher {path:?} {why}"),
                "it is a path in the payload",
                "launcher = \"Combwright.exe\"",
            );
        }
    };
    let Program { file, arguments, environment, .. } = &*program;
    if !payload.files.iter().any(|f| f.path == *file) {
        // As for any program without its file, that is said when all of it is laid out.
        return Vec::new();
    }
    let taken = |p: &RelPath| p.as_str().to_lowercase() == launcher.as_str().to_lowercase();
    if payload.files.iter().map(|f| &f.path).chain(payload.others.iter().map(Node::path)).any(taken) {
        return wrong(
            format!("the launcher {launcher} already exists in the payload"),
            "a layer brings a file of that name",
            "another name",
        );
    }
    let texts = arguments.iter().chain(environment.keys()).chain(environment.values());
    if texts.clone().any(|t| t.contains('\0')) || texts.map(|t| t.len() + 3).sum::<usize>() > ROOM {
        return wrong(
            format!("the launcher {launcher} can't hold its command line"),
            "Windows takes up to 32,000 letters, and no zeros",
            "shorter arguments",
        );
    }
    let bytes = match branded(platform, &launcher, program, product, icon) {
        Ok(bytes) => bytes,
        Err(e) => return wrong(format!("the launcher {launcher} can't be made"), &e.to_string(), "another icon"),
    };
    let mut above = launcher.parent();
    while let Some(folder) = above {
        if !payload.others.iter().any(|node| *node.path() == folder) {
            payload.others.push(Node::Folder { path: folder.clone(), mode: 0o755 });
        }
        above = folder.parent();
    }
    let size = bytes.len() as u64;
    if let Some(share) = payload.shares.first_mut() {
        share.bytes += size;
        share.files += 1;
    }
    let at = payload.files.partition_point(|f| f.path < launcher);
    payload.files.insert(
        at,
        PayloadFile {
            path: launcher.clone(),
            mode: 0o755,
            size,
            source: Source::Memory(bytes.into()),
            layer: 0,
            further_name: false,
        },
    );
    *program = Program { console: program.console, ..Program::plain(program.key.clone(), launcher) };
    Vec::new()
}
