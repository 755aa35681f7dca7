//! Combwright, a made-up beekeeper's hive journal: a small real program for trying packages out. It looks its art, font
//! and example journal up at run time, beside itself, and says plainly when one was left behind.

mod journal;
mod window;

use journal::Journal;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

const HELP: &str = "\
Combwright 2.4.0, a hive journal

usage: combwright [JOURNAL.comb | combwright:HIVE]
       combwright --report [JOURNAL.comb]
       combwright --where

  --report   print the journal instead of showing it
  --where    print where the program and its data are
";

fn main() -> ExitCode {
    match run() {
        Ok(()) => ExitCode::SUCCESS,
        Err(sentence) => {
            eprintln!("combwright: {sentence}");
            ExitCode::FAILURE
        }
    }
}

/// The folder with the program's data: beside the program's own folder.
fn data() -> Result<PathBuf, String> {
    let own = std::env::current_exe().map_err(|e| e.to_string())?;
    let data = own.parent().and_then(Path::parent).map(|p| p.join("share/combwright")).unwrap_or_default();
    if data.is_dir() {
        Ok(data)
    } else {
        Err(format!("the data folder {} was left behind", data.display()))
    }
}

fn run() -> Result<(), String> {
    let mut arguments: Vec<String> = std::env::args().skip(1).collect();
    let mut switch = |name: &str| arguments.iter().position(|a| a == name).map(|at| arguments.remove(at)).is_some();
    if switch("--help") {
        print!("{HELP}");
        return Ok(());
    }
    let (report, places) = (switch("--report"), switch("--where"));
    let data = data()?;
    if places {
        println!("program  {}", std::env::current_exe().map_err(|e| e.to_string())?.display());
        println!("data     {}", data.display());
        println!("started  {}", std::env::current_dir().map_err(|e| e.to_string())?.display());
        println!("season   {}", std::env::var("COMBWRIGHT_SEASON").unwrap_or_default());
        return Ok(());
    }
    let mut wanted = None;
    let mut file = data.join("journals/fernhollow.comb");
    for argument in arguments {
        match argument.strip_prefix("combwright:") {
            Some(hive) => wanted = Some(hive.trim_start_matches('/').replace("%20", " ")),
            None => file = argument.into(),
        }
    }
    let text = std::fs::read_to_string(&file).map_err(|e| format!("{}: {e}", file.display()))?;
    let journal = Journal::parse(&text);
    if report {
        print!("{}", journal.report());
        return Ok(());
    }
    let chosen = wanted.and_then(|w| journal.hives.iter().position(|h| h.name.eq_ignore_ascii_case(&w)));
    window::show(&journal, &data, &file, chosen.unwrap_or(0))
}
