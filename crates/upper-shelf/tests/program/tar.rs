//! The tar for Linux: installed for one user and for everyone, upgraded, and removed without a trace.

use crate::common::{Folder, demo_package, text};
use std::path::Path;
use std::process::Command;
use test_support::{judge_says_yes, listing};

fn unpack(folder: &Folder, to: &str) {
    let tar = demo_package("Combwright-2.4.0-linux-x64.tar.gz");
    std::fs::create_dir_all(folder.at(to)).expect("folder");
    judge_says_yes("tar", &["-xf", tar.to_str().expect("utf-8"), "-C", folder.at(to).to_str().expect("utf-8")]);
}

fn as_user(folder: &Folder, script: &Path, args: &[&str]) -> (bool, String) {
    let home = folder.at("home of a user");
    let out = Command::new("sh")
        .arg(script)
        .args(args)
        .env_clear()
        .env("PATH", "/usr/bin:/bin:/usr/sbin:/sbin")
        .env("HOME", home)
        .output()
        .expect("a shell");
    (out.status.success(), text(&out))
}

#[test]
fn for_one_user_it_is_installed_upgraded_and_removed_without_a_trace() {
    let folder = Folder::new();
    unpack(&folder, "a b");
    let home = folder.at("home of a user");
    std::fs::create_dir_all(home.join("Documents")).expect("home");
    let before = listing(&home);
    let install = folder.at("a b/Combwright-2.4.0-linux-x64/install.sh");
    let uninstall = home.join(".local/share/works.fernhollow.combwright/uninstall.sh");
    let (ok, said) = as_user(&folder, &install, &["--user"]);
    assert!(ok, "{said}");
    let first = listing(&home);
    // Again: an upgrade replaces everything and leaves the same.
    std::fs::write(home.join(".local/share/works.fernhollow.combwright/app/left-from-before"), "x").expect("written");
    let (ok, said) = as_user(&folder, &install, &[]);
    // Run as root the usual way is for everyone; here it must be said.
    assert!(ok || said.contains("--system"), "{said}");
    let (ok, said) = as_user(&folder, &install, &["--user"]);
    assert!(ok, "{said}");
    assert_eq!(listing(&home), first);
    for part in [
        "applications/works.fernhollow.combwright.desktop",
        "icons/hicolor/48x48/apps/works.fernhollow.combwright.png",
        "mime/packages/works.fernhollow.combwright.xml",
        "metainfo/works.fernhollow.combwright.metainfo.xml",
    ] {
        assert!(home.join(".local/share").join(part).exists(), "{part}");
    }
    let entry = home.join(".local/share/applications/works.fernhollow.combwright.desktop");
    judge_says_yes("desktop-file-validate", &["--no-hints", entry.to_str().expect("utf-8")]);
    let line = std::fs::read_to_string(&entry).expect("entry");
    let exec = line.lines().find_map(|l| l.strip_prefix("Exec=")).expect("Exec");
    assert!(exec.starts_with('"') && exec.contains("home of a user/.local"), "{exec}");
    assert!(home.join("Desktop/works.fernhollow.combwright.desktop").exists());
    let out =
        Command::new(home.join(".local/bin/combwright")).arg("--where").current_dir("/").output().expect("started");
    assert!(text(&out).contains("season   2026"), "{}", text(&out));
    let data = home.join(".local/share");
    assert!(data.join("man/man1/combwright.1").exists());
    let completed = "source \"$0\"; COMP_WORDS=(combwright --w) COMP_CWORD=1; _combwright; echo \"${COMPREPLY[@]}\"";
    let completions = data.join("bash-completion/completions/combwright");
    let out = Command::new("bash").args(["-c", completed]).arg(&completions).output().expect("bash");
    assert_eq!(text(&out), "--where\n");
    let out = Command::new(home.join(".local/bin/combwright-report")).output().expect("started");
    assert!(text(&out).contains("Orchard East"), "{}", text(&out));
    let (ok, said) = as_user(&folder, &uninstall, &[]);
    assert!(ok, "{said}");
    assert_eq!(listing(&home), before, "nothing is left");
    // For everyone, from the second call above.
    let system = Path::new("/opt/works.fernhollow.combwright/uninstall.sh");
    if system.exists() {
        assert!(as_user(&folder, system, &[]).0);
    }
    assert!(!Path::new("/opt/works.fernhollow.combwright").exists());
    assert!(!Path::new("/usr/local/bin/combwright").exists());
}

#[test]
fn what_is_somebody_elses_is_not_overwritten_and_not_removed() {
    let folder = Folder::new();
    unpack(&folder, "x");
    let home = folder.at("home of a user");
    folder.write("home of a user/.local/bin/combwright", "not ours");
    folder.write("home of a user/.local/share/applications/other.desktop", "[Desktop Entry]\n");
    let before = listing(&home);
    let (ok, said) = as_user(&folder, &folder.at("x/Combwright-2.4.0-linux-x64/install.sh"), &["--user"]);
    assert!(!ok && said.contains("already exists"), "{said}");
    assert_eq!(listing(&home), before, "what was done is taken back: {said}");
    let (ok, said) = as_user(&folder, &folder.at("x/Combwright-2.4.0-linux-x64/uninstall.sh"), &[]);
    assert!(!ok && said.contains("nothing is installed here"), "{said}");
}

#[test]
fn every_compression_is_unpacked_by_others() {
    let folder = Folder::least();
    for (compression, ending) in [("gzip", "tar.gz"), ("zstd", "tar.zst"), ("xz", "tar.xz")] {
        let manifest = crate::common::LEAST.replace("[\"appimage\"]", "[\"tar\"]");
        folder.write("shelf.toml", format!("{manifest}\n[target.tar]\ncompression = \"{compression}\"\n"));
        folder.ok(&["build"]);
        let tar = folder.at(&format!("packages/Least-1.0.0-linux-x64.{ending}"));
        let out = folder.at(compression);
        std::fs::create_dir_all(&out).expect("folder");
        judge_says_yes("tar", &["-xf", tar.to_str().expect("utf-8"), "-C", out.to_str().expect("utf-8")]);
        assert_eq!(listing(&out.join("Least-1.0.0-linux-x64/app")), listing(&folder.at("built")), "{compression}");
    }
    folder.write("shelf.toml", crate::common::LEAST.replace("[\"appimage\"]", "[\"zip\"]"));
    folder.ok(&["build"]);
    let zip = folder.at("packages/Least-1.0.0-linux-x64.zip");
    judge_says_yes(
        "unzip",
        &["-q", zip.to_str().expect("utf-8"), "-d", folder.at("unzipped").to_str().expect("utf-8")],
    );
    assert_eq!(listing(&folder.at("unzipped/Least-1.0.0-linux-x64")), listing(&folder.at("built")));
}
