//! Upgrades of a tar installation on bad days: stopped at every step, on a full disk, with an odd environment.

use crate::common::{Folder, LEAST, text};
use std::path::{Path, PathBuf};
use std::process::{Command, Output};
use test_support::{judge_says_yes, listing};

/// A product of two versions, unpacked; the second one has a file type more and a program less.
fn versions() -> Folder {
    let folder = Folder::new();
    for (version, more) in [
        ("1.0.0", "[[program]]\nkey = \"second\"\nfile = \"bin/second\"\n"),
        ("2.0.0", "[[file-type]]\nprogram = \"app\"\nextensions = [\"hive\"]\nname = \"Hive\"\n"),
    ] {
        let manifest = LEAST.replace("[\"appimage\"]", "[\"tar\"]").replace("1.0.0", version);
        let at = |path: &str| format!("{version}/{path}");
        let manifest = format!(
            "{manifest}\n{more}\n[[shortcut]]\nprogram = \"app\"\nplaces = [\"menu\", \"desktop\", \"startup\"]\n"
        );
        folder.write(&at("shelf.toml"), manifest);
        folder.script(&at("built/bin/least"), &format!("echo version {version}"));
        folder.script(&at("built/bin/second"), "echo second");
        folder.write(&at(&format!("built/data/only in {version}")), "data");
        let out = folder.command(&["build"]).current_dir(folder.at(version)).output().expect("run");
        assert!(out.status.success(), "{}", text(&out));
        unpack(&folder, version, version);
    }
    folder
}

fn unpack(folder: &Folder, version: &str, to: &str) {
    let tar = folder.at(&format!("{version}/packages/Least-{version}-linux-x64.tar.gz"));
    let to = folder.at(to);
    judge_says_yes("tar", &["-xf", tar.to_str().expect("text"), "-C", to.to_str().expect("text")]);
}

fn installer(folder: &Folder, version: &str) -> PathBuf {
    folder.at(&format!("{version}/Least-{version}-linux-x64/install.sh"))
}

const ID: &str = "works.fernhollow.least";

/// Runs a script for a user, in a process group of its own; further variables as they are.
fn run(script: &Path, home: &Path, path: &str, variables: &[(&str, &str)]) -> Output {
    let mut command = Command::new("setsid");
    command.args(["-w", "sh"]).arg(script).env_clear().env("PATH", path).env("HOME", home).current_dir("/");
    if script.ends_with("install.sh") {
        command.arg("--user");
    }
    command.envs(variables.iter().copied()).output().expect("a shell")
}

const PATH: &str = "/usr/bin:/bin:/usr/sbin:/sbin";

fn ok(script: &Path, home: &Path) {
    let out = run(script, home, PATH, &[]);
    assert!(out.status.success(), "{}", text(&out));
}

fn says(home: &Path) -> String {
    let out = Command::new(home.join(".local/bin/least")).env_clear().env("PATH", PATH).output();
    out.map(|o| text(&o)).unwrap_or_default()
}

/// Programs in front of the system's, which at a call of a number stop everything as `signal` does.
fn stopper(folder: &Folder) -> String {
    for name in ["mv", "cp", "mkdir", "rm", "rmdir", "chmod"] {
        let body = format!(
            "n=$(($(/bin/cat \"$COUNT\") + 1)); echo $n > \"$COUNT\"\n\
                 [ \"$n\" != \"$STOP\" ] || kill -s \"$SIGNAL\" 0\nexec /bin/{name} \"$@\""
        );
        folder.script(&format!("stopper/{name}"), &body);
    }
    format!("{}:{PATH}", folder.at("stopper").display())
}

fn copy(from: &Path, to: &Path) {
    let _ = std::fs::remove_dir_all(to);
    judge_says_yes("cp", &["-a", from.to_str().expect("text"), to.to_str().expect("text")]);
}

#[test]
fn stopped_anywhere_the_old_version_stays_or_the_new_one_is_there_whole() {
    let folder = versions();
    let [v1, v2] = ["1.0.0", "2.0.0"].map(|v| installer(&folder, v));
    // Paths stand in what is installed: everything happens in one home.
    let (template, home) = (folder.at("template"), folder.at("home"));
    std::fs::create_dir_all(home.join(".local/share").join(ID)).expect("made");
    std::fs::write(home.join(".local/share").join(ID).join("notes"), "the program's own").expect("written");
    let empty = listing(&home);
    ok(&v1, &home);
    let old = listing(&home);
    copy(&home, &template);
    ok(&v2, &home);
    let new = listing(&home);
    assert!(old != new && says(&home) == "version 2.0.0\n", "{}", says(&home));
    let path = stopper(&folder);
    let count = folder.at("count");
    let counted = count.to_str().expect("text");
    let (mut steps, mut undone, mut finished) = (0, 0, 0);
    for signal in ["KILL", "TERM"] {
        // Spread over all moments: each costs a whole installation.
        let first = 1 + usize::from(signal == "TERM");
        for stop in (first..400).step_by(if signal == "KILL" { 4 } else { 3 }) {
            copy(&template, &home);
            std::fs::write(&count, "0").expect("written");
            let number = stop.to_string();
            let out = run(&v2, &home, &path, &[("STOP", &number), ("COUNT", counted), ("SIGNAL", signal)]);
            if out.status.success() {
                assert_eq!(listing(&home), new);
                break;
            }
            steps += 1;
            let now = listing(&home);
            if signal == "TERM" {
                // Told to stop it goes back by itself, or is done already.
                assert!(now == old || now == new, "{signal} at {stop}: {now:#?}");
                undone += u32::from(now == old);
                finished += u32::from(now == new);
                continue;
            }
            // Killed, the next run puts everything in order: the same version again, or removal.
            let (at, again) = (listing(&home), folder.at("again"));
            copy(&home, &again);
            ok(&v2, &home);
            assert_eq!(listing(&home), new, "killed at {stop}, installed again; it was {at:#?}");
            copy(&again, &home);
            let uninstall = home.join(".local/share").join(ID).join("uninstall.sh");
            if uninstall.exists() {
                ok(&uninstall, &home);
                let left = listing(&home);
                assert!(left == empty || left == old, "killed at {stop}, removed: {left:#?}");
                if left == old {
                    ok(&uninstall, &home);
                    assert_eq!(listing(&home), empty);
                }
            }
        }
    }
    assert!(steps > 40 && undone > 15, "{steps} steps, {undone} undone, {finished} finished");
}

#[test]
fn a_full_disk_costs_nothing() {
    let folder = versions();
    folder.write("2.0.0/Least-2.0.0-linux-x64/app/big", test_support::noise(1, 3_000_000));
    let home = folder.at("home");
    std::fs::create_dir(&home).expect("made");
    let script = "mount -t tmpfs -o size=2m tmpfs \"$1\" && sh \"$2\" --user >/dev/null && cp -a \"$1\" \"$1-1\" &&\n\
            { if sh \"$3\" --user; then echo installed; exit 1; fi; } && cp -a \"$1\" \"$1-2\" && diff -r \"$1-1\" \"$1-2\" && \"$1/.local/bin/least\"";
    let [v1, v2] = ["1.0.0", "2.0.0"].map(|v| installer(&folder, v));
    let mut command = Command::new("unshare");
    command.args(["-m", "sh", "-c", script, "sh"]).arg(&home).arg(v1).arg(v2);
    let out = command.env_clear().env("PATH", PATH).env("HOME", &home).output().expect("unshare");
    assert!(out.status.success(), "{}", text(&out));
    assert!(text(&out).contains("nothing has been changed"), "{}", text(&out));
    assert!(String::from_utf8_lossy(&out.stdout).ends_with("version 1.0.0\n"), "{}", text(&out));
}

#[test]
fn strict_modes_cdpath_and_a_dash_in_front_do_no_harm() {
    let folder = versions();
    // Unpacked by somebody who keeps everything to himself, in a folder that looks like a switch.
    let script = "umask 077; mount -t tmpfs tmpfs /opt && mount -t tmpfs tmpfs /usr/local && mount -t tmpfs tmpfs /etc/xdg &&\n\
            cd \"$1\" && mkdir ./-p && tar --no-same-permissions -xf 2.0.0/packages/*.tar.gz -C ./-p && cd ./-p && mv ./Least* ./-n &&\n\
            export CDPATH=/etc:. && sh -- -n/install.sh --system >/dev/null &&\n\
            setpriv --reuid=65534 --regid=65534 --clear-groups /usr/local/bin/least &&\n\
            find /opt/ /usr/local/ ! -perm -o=r -o -perm /go=w ! -type l ! -path /opt/ ! -path /usr/local/ | sed 's/^/closed or open to all: /'";
    let mut command = Command::new("unshare");
    command.args(["-m", "sh", "-c", script, "sh"]).arg(folder.path());
    let out = command.env_clear().env("PATH", PATH).env("HOME", "/root").output().expect("unshare");
    assert!(out.status.success(), "{}", text(&out));
    assert_eq!(text(&out), "version 2.0.0\n");
}

#[test]
fn another_programs_environment_is_not_taken_for_ours() {
    let folder = Folder::new();
    let manifest = LEAST.replace("[\"appimage\"]", "[\"tar\", \"appimage\"]");
    let more = "[[program]]\nkey = \"other\"\nfile = \"bin/other\"\n\
                    [[environment]]\nname = \"XDG_DATA_DIRS\"\naction = \"prepend\"\nvalue = \"{install}/share\"\n\
                    [[environment]]\nname = \"MANPATH\"\naction = \"append\"\nvalue = \"{install}/man\"\n";
    folder.write("shelf.toml", format!("{manifest}\n{more}"));
    folder.script("built/bin/other", "echo the wrong one");
    folder.script("built/bin/least", "echo \"${APPDIR-none}|${APPIMAGE-none}|$XDG_DATA_DIRS|$MANPATH\"");
    folder.ok(&["build"]);
    std::fs::create_dir(folder.at("out")).expect("made");
    let tar = folder.at("packages/Least-1.0.0-linux-x64.tar.gz");
    judge_says_yes("tar", &["-xf", tar.to_str().expect("text"), "-C", folder.at("out").to_str().expect("text")]);
    let image = folder.at("packages/Least-1.0.0-linux-x64.AppImage");
    let at = text(&Command::new(&image).arg("--appimage-offset").output().expect("started"));
    let (out, image) = (folder.at("image"), image.to_str().expect("text"));
    judge_says_yes("unsquashfs", &["-n", "-d", out.to_str().expect("text"), "-o", at.trim(), image]);
    let foreign = [("APPDIR", "/usr"), ("APPIMAGE", "/x.AppImage"), ("ARGV0", "/some/where/other")];
    let said = |path: &Path| {
        let out = Command::new(path).env_clear().env("PATH", PATH).envs(foreign).output().expect("started");
        folder.tidy(&text(&out))
    };
    assert_eq!(
        said(&folder.at("out/Least-1.0.0-linux-x64/launch")),
        "none|none|HERE/out/Least-1.0.0-linux-x64/app/share:/usr/local/share:/usr/share|:HERE/out/Least-1.0.0-linux-x64/app/man\n"
    );
    assert_eq!(
        said(&folder.at("image/AppRun")),
        format!(
            "HERE/image|none|HERE/image/usr/lib/{ID}/share:/usr/local/share:/usr/share|:HERE/image/usr/lib/{ID}/man\n"
        )
    );
}
