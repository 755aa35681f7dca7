//! Killed at each moment at which a file gets its name: what is there under a package's name is whole, and everything
//! that lies beside it belongs to it. The kernel's own tracer is what kills.

use crate::common::{Folder, PROGRAM, hives, text};
use std::collections::BTreeMap;
use std::path::Path;
use std::process::Command;

/// The tracer, with a signal at a call of its number.
fn killed_at(folder: &Folder, call: &str, number: usize) -> bool {
    let inject = format!("inject={call}:signal=KILL:when={number}");
    let trace = format!("trace={call}");
    let mut command = Command::new("strace");
    command.args(["-f", "-qq", "-o", "/dev/null", "-e", &trace, "-e", &inject, PROGRAM, "build"]);
    let out = command.current_dir(folder.path()).env("NO_COLOR", "1").output();
    !out.unwrap_or_else(|e| panic!("the judge `strace` can't be started ({e}); `./test` installs it")).status.success()
}

fn contents(folder: &Path) -> BTreeMap<String, Vec<u8>> {
    let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
    let named = entries.map(|e| (e.file_name().to_string_lossy().into_owned(), e.path()));
    let whole = named.filter(|(name, _)| !name.starts_with('.'));
    whole.map(|(name, path)| (name, std::fs::read(path).expect("read"))).collect()
}

fn sweep(first: &Folder, second: &Folder, more_than: usize) {
    first.ok(&["build"]);
    second.ok(&["build"]);
    let (old, new) = (contents(&first.at("packages")), contents(&second.at("packages")));
    assert!(old.keys().any(|k| new.contains_key(k)), "the second build replaces the first one's files");
    let mut moments = 0;
    for call in ["rename,renameat,renameat2", "unlink,unlinkat"] {
        for number in 1..40 {
            let place = second.at("packages");
            std::fs::remove_dir_all(&place).expect("removed");
            test_support::judge_says_yes(
                "cp",
                &["-a", &first.at("packages").to_string_lossy(), &place.to_string_lossy()],
            );
            if !killed_at(second, call, number) {
                break;
            }
            moments += 1;
            let now = contents(&place);
            for name in now.keys().filter(|n| n.ends_with(".msi") || n.ends_with(".exe")) {
                let (is_old, is_new) = (now[name] == old[name], now[name] == new[name]);
                assert!(is_old || is_new, "{name} is half, killed at {call} {number}");
                // What belongs to it is of the same build.
                let stem = name.rsplit_once('.').expect("an extension").0;
                let of = if is_old { &old } else { &new };
                for (beside, bytes) in of.iter().filter(|(n, _)| n.starts_with(stem) && n.ends_with(".cab")) {
                    assert!(now.get(beside) == Some(bytes), "{beside} is not {name}'s, killed at {call} {number}");
                }
                let page = format!("{name}.DEPLOY.md");
                assert!(now.get(&page).is_none_or(|p| p == &of[&page]), "{page} is not {name}'s, {call} {number}");
            }
            // Whatever is left the next build puts in order.
            second.ok(&["build"]);
            assert_eq!(contents(&place), new, "built again after {call} {number}");
            assert_eq!(second.names("packages").len(), new.len(), "nothing under way is left");
        }
    }
    assert!(moments >= more_than, "{moments} moments");
}

#[test]
fn at_each_rename_an_msi_lies_beside_cabinets_of_its_own_build() {
    let settings = "[target.msi]\ncabinets = \"external\"\ncabinet-megabytes = 1\ncompression = \"mszip\"";
    let [first, second] = ["one", "two"].map(|content| {
        let folder = hives::product("1.0.0", settings);
        folder.write("built/data/one.bin", test_support::noise(content.len() as u64, 700_000));
        folder.write("built/data/text", content);
        folder
    });
    first.write("built/data/more.bin", test_support::noise(9, 1_400_000));
    sweep(&first, &second, 6);
}

#[test]
fn at_each_rename_a_setup_and_its_page_are_whole() {
    let [first, second] = ["one", "two"].map(|content| {
        let folder = hives::product_for("nsis", "1.0.0", "");
        folder.write("built/data/text", content);
        folder
    });
    sweep(&first, &second, 2);
}

#[test]
fn the_tracer_really_kills() {
    let folder = hives::product_for("nsis", "1.0.0", "");
    assert!(
        killed_at(&folder, "rename,renameat,renameat2", 1),
        "{}",
        text(&folder.command(&["check"]).output().expect("run"))
    );
    assert!(contents(&folder.at("packages")).is_empty());
}
