//! `icons`

use crate::exit::Exit;
use crate::output::Output;
use serde::Serialize;
use std::path::{Path, PathBuf};
use upper_shelf_core::Failure;
use upper_shelf_core::icons::Icon;

/// Make every size and format of an icon from one picture: PNG, SVG, ICO, ICNS
#[derive(Debug, clap::Args)]
pub struct Args {
    /// One SVG, or one square PNG of 512 pixels or more
    picture: PathBuf,
    /// Put them here
    #[arg(short, long, value_name = "FOLDER", default_value = "icons")]
    output: PathBuf,
}

/// What `icons` prints.
#[derive(Serialize, schemars::JsonSchema)]
pub struct Made {
    /// The pictures that were written.
    files: Vec<PathBuf>,
}

pub fn run(args: Args, out: &mut Output) -> Result<Exit, Failure> {
    let (icon, warnings) = Icon::load(&args.picture, None)?;
    out.warnings(&warnings);
    let name = args.picture.file_stem().map_or("icon".into(), |n| n.to_string_lossy().into_owned());
    let mut files: Vec<(PathBuf, Vec<u8>)> = icon
        .theme_files(&name)
        .into_iter()
        .map(|(_, path, bytes)| (args.output.join("hicolor").join(path), bytes))
        .collect();
    let encoded = |e: std::io::Error| Failure::io("can't make icons from", &args.picture, e);
    files.push((args.output.join(format!("{name}.ico")), icon.ico().map_err(encoded)?));
    files.push((args.output.join(format!("{name}.icns")), icon.icns().map_err(encoded)?));
    for (path, bytes) in &files {
        let folder = path.parent().unwrap_or(Path::new("."));
        let written = std::fs::create_dir_all(folder).and_then(|()| std::fs::write(path, bytes));
        written.map_err(|e| Failure::io("can't write", path, e))?;
        out.good(&super::shown(path));
    }
    if out.json {
        out.result(&Made { files: files.into_iter().map(|f| f.0).collect() });
    }
    Ok(Exit::Done)
}
