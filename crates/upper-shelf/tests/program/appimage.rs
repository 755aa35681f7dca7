//! The AppImage really started: as root and as a user, with and without the kernel's help, whole and damaged. And read
//! by programs that are not ours.

use crate::common::{Folder, code, demo_package, put_program, start, text};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};
use test_support::{judge, judge_says_yes};

const X64: &str = "Combwright-2.4.0-linux-x64.AppImage";

/// Mounts of a copy (see [`copy`]).
fn mounts(package: &Path) -> usize {
    let name = package.file_name().expect("a name").to_string_lossy();
    let mounts = std::fs::read_to_string("/proc/mounts").expect("mounts");
    mounts.lines().filter(|l| l.contains("upper-shelf-mount-") && l.starts_with(&*name)).count()
}

/// A copy whose mounts can be told from those of other tests.
fn copy(folder: &Folder, package: &Path) -> PathBuf {
    let own = folder.path().file_name().expect("a name").to_string_lossy();
    let own = folder.at(&format!("own-{}-{}.AppImage", std::process::id(), own.trim_start_matches('.')));
    put_program(&own, &std::fs::read(package).expect("read"));
    own
}

fn wait_for(what: &str, mut done: impl FnMut() -> bool) {
    let began = Instant::now();
    while !done() {
        assert!(began.elapsed() < Duration::from_secs(20), "{what} did not happen");
        std::thread::sleep(Duration::from_millis(20));
    }
}

/// A command as a user without rights, with a home folder of its own.
fn as_user(folder: &Folder, package: &Path) -> Command {
    let home = folder.at("home");
    std::fs::create_dir_all(&home).expect("home");
    std::os::unix::fs::chown(&home, Some(65534), Some(65534)).expect("owner");
    let mut command = Command::new("setpriv");
    command.args(["--reuid=65534", "--regid=65534", "--clear-groups"]).arg(package);
    command.env_clear().env("PATH", "/usr/bin:/bin").env("HOME", home).current_dir("/");
    command
}

/// In a mount namespace in which there is no `/dev/fuse`.
fn without_fuse(inner: &Command) -> Command {
    let mut words: Vec<String> = vec![inner.get_program().to_string_lossy().into_owned()];
    words.extend(inner.get_args().map(|a| a.to_string_lossy().into_owned()));
    let quoted: Vec<String> = words.iter().map(|w| format!("'{}'", w.replace('\'', "'\\''"))).collect();
    let mut command = Command::new("unshare");
    command
        .args(["-m", "sh", "-c"])
        .arg(format!("mount --bind /dev/null /dev/fuse && chmod 000 /dev/fuse 2>/dev/null; exec {}", quoted.join(" ")));
    command.env_clear();
    for (name, value) in inner.get_envs() {
        if let Some(value) = value {
            command.env(name, value);
        }
    }
    command.current_dir("/");
    command
}

#[test]
fn it_runs_as_root_and_as_a_user_and_unmounts() {
    let folder = Folder::new();
    let package = copy(&folder, &demo_package(X64));
    for mut command in [start(&package), as_user(&folder, &package)] {
        let out = command.arg("--where").output().expect("started");
        let text = text(&out);
        assert!(out.status.success(), "{text}");
        assert!(text.contains("season   2026") && text.contains("started  /\n"), "{text}");
        assert!(text.contains("upper-shelf-mount-"), "mounted, not unpacked: {text}");
    }
    wait_for("unmounting", || mounts(&package) == 0);
}

#[test]
fn without_the_mount_helper_a_namespace_of_its_own_serves() {
    let folder = Folder::new();
    let package = copy(&folder, &demo_package(X64));
    let command = as_user(&folder, &package);
    // Nothing named fusermount is found: an empty file system lies over the folders of programs but for a shell.
    let script = format!(
        "mkdir -p {0}/bin && cp /bin/sh /usr/bin/readlink /usr/bin/dirname {0}/bin/ && for p in /usr/bin/fusermount3 /usr/bin/fusermount /bin/fusermount3 /bin/fusermount; do [ ! -e $p ] || mount --bind /dev/null $p; done; exec \"$@\"",
        folder.path().display()
    );
    let mut hidden = Command::new("unshare");
    hidden.args(["-m", "sh", "-c", &script, "sh"]).arg(command.get_program()).args(command.get_args()).arg("--where");
    hidden.env_clear().env("PATH", "/usr/bin:/bin").env("HOME", folder.at("home")).current_dir("/");
    let out = hidden.output().expect("started");
    assert!(out.status.success(), "{}", text(&out));
    let text = text(&out);
    assert!(text.contains("season   2026") && text.contains("upper-shelf-mount-"), "{text}");
}

#[test]
fn without_fuse_it_is_unpacked_once_and_shared() {
    let folder = Folder::new();
    let package = demo_package(X64);
    let run = || {
        let mut inner = as_user(&folder, &package);
        inner.arg("--where");
        without_fuse(&inner).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().expect("started")
    };
    // Eight at once: one unpacks, all run from the same folder.
    let all: Vec<_> = (0..8).map(|_| run()).collect();
    let said: Vec<String> = all
        .into_iter()
        .map(|c| {
            let out = c.wait_with_output().expect("ended");
            assert!(out.status.success(), "{}", text(&out));
            text(&out)
        })
        .collect();
    assert!(said.iter().all(|s| *s == said[0]), "{said:?}");
    assert!(said[0].contains(".cache/upper-shelf/"), "{}", said[0]);
    let cache = folder.at("home/.cache/upper-shelf");
    let names = folder.names("home/.cache/upper-shelf");
    assert_eq!(names.len(), 2, "{names:?}");
    // What nobody has used for long goes at the next start; what is in use stays.
    for (name, held) in [("00000000000000000000000000000000", false), ("11111111111111111111111111111111", true)] {
        std::fs::create_dir(cache.join(name)).expect("folder");
        let lock = std::fs::File::create(cache.join(format!("{name}.lock"))).expect("lock");
        lock.set_modified(std::time::SystemTime::now() - Duration::from_secs(30 * 24 * 3600)).expect("time");
        for path in [name.to_owned(), format!("{name}.lock")] {
            std::os::unix::fs::chown(cache.join(path), Some(65534), Some(65534)).expect("owner");
        }
        if held {
            lock.lock_shared().expect("held");
            std::mem::forget(lock);
        }
    }
    assert!(run().wait().expect("ended").success());
    assert!(!cache.join("00000000000000000000000000000000").exists());
    assert!(cache.join("11111111111111111111111111111111").exists());
}

#[test]
fn a_hostile_temporary_folder_is_not_trusted() {
    let folder = Folder::new();
    let package = demo_package(X64);
    let (tmp, trap) = (folder.at("tmp"), folder.at("trap"));
    for dir in [&tmp, &trap] {
        std::fs::create_dir(dir).expect("folder");
        std::fs::set_permissions(dir, std::os::unix::fs::PermissionsExt::from_mode(0o1777)).expect("mode");
    }
    // Somebody was there first: a link, and then a folder that is theirs.
    for theirs in [true, false] {
        let place = tmp.join("upper-shelf-65534");
        if theirs {
            std::os::unix::fs::symlink(&trap, &place).expect("link");
        } else {
            std::fs::remove_file(&place).expect("removed");
            std::fs::create_dir(&place).expect("folder");
        }
        let mut inner = as_user(&folder, &package);
        inner.arg("--where").env("TMPDIR", &tmp).env("HOME", "/proc/nothing");
        let out = without_fuse(&inner).output().expect("started");
        assert_eq!(code(&out), 125, "{}", text(&out));
        assert!(text(&out).contains("other users could change its contents"), "{}", text(&out));
        assert_eq!(folder.names("trap"), [""; 0]);
    }
}

#[test]
fn arguments_exit_code_signals_and_standard_input_pass() {
    let folder = Folder::new();
    let body = r#"case $1 in
  args) shift; for a in "$@"; do printf '<%s>' "$a"; done; exit 42 ;;
  wait) echo ready; exec sleep 30 ;;
  cat) exec cat ;;
  env) echo "$APPIMAGE|$ARGV0|$OWD|${APPDIR##*/}" ;;
  child) (sleep 1; ls "$APPDIR" >/dev/null && echo still > "$2") & exit 0 ;;
esac"#;
    folder.write("shelf.toml", crate::common::LEAST);
    folder.script("built/bin/least", body);
    folder.ok(&["build"]);
    let package = copy(&folder, &folder.at("packages/Least-1.0.0-linux-x64.AppImage"));
    let out = start(&package).args(["args", "", "a b", "ü\n'\"$x", "--help", "-x"]).output().expect("started");
    assert_eq!(String::from_utf8_lossy(&out.stdout), "<><a b><ü\n'\"$x><--help><-x>");
    assert_eq!(code(&out), 42);
    let mut child = start(&package).arg("wait").stdout(Stdio::piped()).spawn().expect("started");
    let mut line = String::new();
    std::io::BufRead::read_line(&mut std::io::BufReader::new(child.stdout.as_mut().expect("piped")), &mut line)
        .expect("a line");
    judge_says_yes("kill", &["-TERM", &child.id().to_string()]);
    let status = child.wait().expect("ended");
    assert_eq!(std::os::unix::process::ExitStatusExt::signal(&status), Some(15));
    let mut child = start(&package).arg("cat").stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().expect("started");
    std::io::Write::write_all(&mut child.stdin.take().expect("piped"), b"through").expect("written");
    assert_eq!(child.wait_with_output().expect("ended").stdout, b"through");
    let out = start(&package).arg("env").current_dir(folder.path()).output().expect("started");
    let said = folder.tidy(&text(&out));
    let name = package.file_name().expect("a name").to_string_lossy().into_owned();
    assert!(said.starts_with(&format!("HERE/{name}|HERE/{name}|HERE|upper-shelf-mount-")), "{said}");
    // A child that outlives the program keeps the files.
    let note = folder.at("note");
    let out =
        start(&package).args(["child", note.to_str().expect("utf-8")]).stdout(Stdio::null()).status().expect("started");
    assert!(out.success());
    wait_for("the child", || note.exists());
    wait_for("unmounting", || mounts(&package) == 0);
}

#[test]
fn a_damaged_file_is_a_sentence_and_an_exit_code() {
    let folder = Folder::new();
    let bytes = std::fs::read(demo_package(X64)).expect("read");
    let offset: usize = {
        let out = start(&demo_package(X64)).arg("--appimage-offset").output().expect("started");
        String::from_utf8_lossy(&out.stdout).trim().parse().expect("a number")
    };
    let try_it = |bytes: &[u8], name: &str, args: &[&str]| {
        let path = folder.at(name);
        put_program(&path, bytes);
        Command::new("timeout")
            .args(["20", path.to_str().expect("utf-8")])
            .args(args)
            .current_dir(folder.path())
            .env("XDG_CACHE_HOME", folder.at("c"))
            .output()
            .expect("started")
    };
    let mut wrong = bytes.clone();
    wrong[offset..offset + 4].fill(0);
    for (damaged, name) in [
        (&bytes[..offset], "none"),
        (&bytes[..offset + 50], "short"),
        (&bytes[..bytes.len() - 9000], "cut"),
        (&wrong, "magic"),
    ] {
        let out = try_it(damaged, name, &["--where"]);
        assert_eq!(code(&out), 125, "{name}: {}", text(&out));
        assert!(text(&out).contains("damaged"), "{name}: {}", text(&out));
    }
    // A flipped byte in the content: unpacking sees it by the hash before anything runs.
    let mut flipped = bytes.clone();
    flipped[offset + 2000] ^= 1;
    let out = try_it(&flipped, "flipped", &["--appimage-extract-and-run", "--where"]);
    assert_eq!(code(&out), 125, "{}", text(&out));
    assert!(text(&out).contains("was changed after it was packed"), "{}", text(&out));
    // Bytes anywhere behind the head: no crash, no hang.
    for n in 0..40usize {
        let mut mutated = bytes.clone();
        for k in 0..20 {
            let at = offset + (n * 7919 + k * 104_729) % (bytes.len() - offset);
            mutated[at] = (n * 31 + k * 17) as u8;
        }
        let out = try_it(&mutated, "mutated", &["--appimage-extract"]);
        let status = code(&out);
        assert_eq!(status, 125, "{n}: {}", text(&out));
        let _ = std::fs::remove_dir_all(folder.at("squashfs-root"));
    }
}

#[test]
fn a_flipped_bit_in_what_could_not_be_packed_is_said_by_whoever_meets_it() {
    let folder = Folder::least();
    folder.script("built/bin/least", "cat \"${0%/bin/*}/honey.bin\" | cksum; echo over");
    let noise = test_support::noise(7, 3_000_000);
    folder.write("built/honey.bin", &noise);
    folder.ok(&["build"]);
    let package = folder.at("packages/Least-1.0.0-linux-x64.AppImage");
    let whole = std::fs::read(&package).expect("read");
    let own = copy(&folder, &package);
    let run = |args: &[&str]| {
        let out = as_user(&folder, &own).args(args).output().expect("started");
        (code(&out), folder.tidy(&text(&out)))
    };
    let (status, said) = run(&[]);
    assert!(status == 0 && said.contains(" 3000000\nover\n"), "{said}");
    let at = whole.windows(64).position(|w| w == &noise[1_500_000..1_500_064]).expect("it is stored as it is");
    let mut flipped = whole;
    flipped[at + 9] ^= 4;
    put_program(&own, &flipped);
    let sentence = "its content was changed after it was packed. The file is damaged or was not downloaded completely. Please download it again.";
    let (_, said) = run(&[]);
    assert!(said.contains(sentence) && !said.contains(" 3000000\n"), "mounted: {said}");
    assert_eq!(said.matches(sentence).count(), 1, "{said}");
    let out = start(&own).arg("--appimage-extract").current_dir(folder.path()).output().expect("started");
    assert!(code(&out) == 125 && text(&out).contains(sentence), "unpacked: {}", text(&out));
    let (status, said) = run(&["--appimage-extract-and-run"]);
    assert!(status == 125 && said.contains(sentence), "unpacked and run: {said}");
    let (status, said) = folder.run(&["check", "packages/Least-1.0.0-linux-x64.AppImage"]);
    assert_eq!(status, 0, "{said}");
    // The table of checksums is a part of the file too.
    let end = flipped.len() - 20;
    flipped[at + 9] ^= 4;
    flipped[end] ^= 1;
    put_program(&own, &flipped);
    let (status, said) = run(&[]);
    assert!(status == 125 && said.contains("the table of its checksums was changed after it was written"), "{said}");
    let name = own.file_name().expect("a name").to_string_lossy().into_owned();
    let (status, said) = folder.run(&["check", &name]);
    assert!(status == 4 && said.contains("the table of checksums behind its image"), "{said}");
}

#[test]
fn the_switches_of_the_specification_work() {
    let folder = Folder::new();
    let package = copy(&folder, &demo_package(X64));
    let run = |args: &[&str]| start(&package).args(args).current_dir(folder.path()).output().expect("started");
    assert!(text(&run(&["--appimage-help"])).contains("--appimage-extract-and-run"));
    assert!(run(&["--appimage-version"]).status.success());
    assert_eq!(code(&run(&["--appimage-nonsense"])), 2);
    assert!(run(&["--appimage-extract", "*.desktop"]).status.success());
    assert_eq!(folder.names("squashfs-root"), ["usr", "works.fernhollow.combwright.desktop"]);
    assert!(run(&["--appimage-extract"]).status.success());
    let mut mounted = start(&package).arg("--appimage-mount").stdout(Stdio::piped()).spawn().expect("started");
    let mut at = String::new();
    std::io::BufRead::read_line(&mut std::io::BufReader::new(mounted.stdout.as_mut().expect("piped")), &mut at)
        .expect("a line");
    let seen = test_support::listing(Path::new(at.trim()));
    judge_says_yes("kill", &["-INT", &mounted.id().to_string()]);
    mounted.wait().expect("ended");
    assert_eq!(seen, test_support::listing(&folder.at("squashfs-root")), "mounted and unpacked are the same");
    wait_for("unmounting", || mounts(&package) == 0);
    assert!(run(&["--appimage-portable-home"]).status.success());
    assert!(folder.names(".").iter().any(|n| n.ends_with(".AppImage.home")));
}

#[test]
fn update_information_stands_in_its_section() {
    let folder = Folder::least();
    let information = "zsync|https://fernhollow.example/Least-latest.AppImage.zsync";
    folder.write(
        "shelf.toml",
        format!("{}\n[target.appimage]\nupdate-information = \"{information}\"\n", crate::common::LEAST),
    );
    folder.ok(&["build"]);
    let package = folder.at("packages/Least-1.0.0-linux-x64.AppImage");
    let out = start(&package).arg("--appimage-updateinformation").output().expect("started");
    assert_eq!(String::from_utf8_lossy(&out.stdout).trim(), information);
    let sections = judge_says_yes("readelf", &["-SW", package.to_str().expect("utf-8")]);
    for section in [".upd_info", ".sha256_sig", ".sig_key"] {
        assert!(sections.contains(section), "{sections}");
    }
}

#[test]
fn others_read_it_unsquashfs_the_kernel_and_the_desktop_validators() {
    assert!(test_support::is_root(), "mounting needs root");
    let folder = Folder::new();
    for package in [X64, "Combwright-2.4.0-linux-arm64.AppImage"] {
        let package = demo_package(package);
        let package = package.to_str().expect("utf-8");
        let offset = folder.run_offset(package);
        let out = folder.at("out");
        judge_says_yes("unsquashfs", &["-no-progress", "-o", &offset, "-d", out.to_str().expect("utf-8"), package]);
        let at = folder.at("at");
        std::fs::create_dir_all(&at).expect("folder");
        judge_says_yes(
            "mount",
            &["-t", "squashfs", "-o", &format!("ro,loop,offset={offset}"), package, at.to_str().expect("utf-8")],
        );
        let seen = test_support::listing(&at);
        test_support::unmount(&at);
        assert_eq!(seen, test_support::listing(&out));
        for name in folder.names("out/usr/share/applications") {
            let entry = folder.at(&format!("out/usr/share/applications/{name}"));
            let said = judge_says_yes("desktop-file-validate", &["--no-hints", entry.to_str().expect("utf-8")]);
            assert_eq!(said, "", "{name}");
        }
        let metainfo = folder.at("out/usr/share/metainfo/works.fernhollow.combwright.metainfo.xml");
        let metainfo = metainfo.to_str().expect("utf-8").to_owned();
        judge_says_yes("appstreamcli", &["validate", "--no-net", "--no-color", &metainfo]);
        judge_says_yes("update-mime-database", &[folder.at("out/usr/share/mime").to_str().expect("utf-8")]);
        let globs = std::fs::read_to_string(folder.at("out/usr/share/mime/globs")).expect("made by the judge");
        assert!(globs.contains("application/vnd.fernhollow.comb:*.comb"), "{globs}");
        // The twins: a broken entry and broken metadata are refused.
        folder
            .write("broken.desktop", "[Desktop Entry]\nName=x\n")
            .write("broken.metainfo.xml", "<component><id>x</id></component>");
        assert!(
            !judge("desktop-file-validate", &[folder.at("broken.desktop").to_str().expect("utf-8")]).status.success()
        );
        assert!(
            !judge(
                "appstreamcli",
                &["validate", "--no-net", folder.at("broken.metainfo.xml").to_str().expect("utf-8")]
            )
            .status
            .success()
        );
        std::fs::remove_dir_all(&out).expect("removed");
    }
}

trait Offset {
    fn run_offset(&self, package: &str) -> String;
}

impl Offset for Folder {
    /// Where the image begins, by a look at the ELF file that is not ours.
    fn run_offset(&self, package: &str) -> String {
        let header = judge_says_yes("readelf", &["-h", package]);
        let number = |label: &str| -> u64 {
            let line = header.lines().find(|l| l.contains(label)).expect(label);
            line.split(':')
                .nth(1)
                .and_then(|v| v.split_whitespace().next())
                .and_then(|n| n.parse().ok())
                .expect("a number")
        };
        (number("Start of section headers") + number("Size of section headers") * number("Number of section headers"))
            .to_string()
    }
}

#[test]
fn the_arm64_head_mounts_unpacks_and_starts_under_an_emulator() {
    let folder = Folder::new();
    let package = demo_package("Combwright-2.4.0-linux-arm64.AppImage");
    let run = |args: &[&str]| {
        let mut command = Command::new("qemu-aarch64-static");
        command.arg(&package).args(args).current_dir(folder.path()).env("XDG_CACHE_HOME", folder.at("cache"));
        command
    };
    // The program inside is for arm64 too: its AppRun is started by this machine's shell, which can't start it.
    let out = run(&["--where"]).output().expect("the emulator is installed");
    assert!(text(&out).contains("upper-shelf-mount-") && text(&out).contains("Exec format error"), "{}", text(&out));
    let mut mounted = run(&["--appimage-mount"]).stdout(Stdio::piped()).spawn().expect("started");
    let mut at = String::new();
    std::io::BufRead::read_line(&mut std::io::BufReader::new(mounted.stdout.as_mut().expect("piped")), &mut at)
        .expect("a line");
    let program = format!("{}/usr/lib/works.fernhollow.combwright/bin/combwright", at.trim());
    let inside = Command::new("qemu-aarch64-static").args([&program, "--report"]).output().expect("started");
    let seen = test_support::listing(Path::new(at.trim()));
    judge_says_yes("kill", &["-INT", &mounted.id().to_string()]);
    mounted.wait().expect("ended");
    assert!(text(&inside).contains("Orchard East (6 visits)"), "{}", text(&inside));
    assert!(run(&["--appimage-extract"]).status().expect("started").success());
    assert_eq!(seen, test_support::listing(&folder.at("squashfs-root")));
}

#[test]
fn the_demo_shows_its_window() {
    let folder = Folder::new();
    let package = demo_package(X64);
    let display = format!(":{}", 200 + std::process::id() % 300);
    let mut server = Command::new("Xvfb")
        .args([&display, "-screen", "0", "1280x800x24", "-nolisten", "tcp"])
        .stderr(Stdio::null())
        .spawn()
        .expect("Xvfb is installed");
    let socket = format!("/tmp/.X11-unix/X{}", &display[1..]);
    wait_for("the X server", || Path::new(&socket).exists());
    let mut shown = start(&package).arg("combwright:mill%20lane").env("DISPLAY", &display).spawn().expect("started");
    let tree = || judge("xwininfo", &["-root", "-tree", "-display", &display]);
    wait_for("the window", || String::from_utf8_lossy(&tree().stdout).contains("\"Combwright\""));
    let picture = folder.at("window.ppm");
    let amber = || {
        judge_says_yes(
            "import",
            &["-display", &display, "-window", "root", "-depth", "8", picture.to_str().expect("utf-8")],
        );
        let pixels = std::fs::read(&picture).expect("a picture");
        pixels.windows(3).filter(|p| *p == [0xe8, 0xa3, 0x17]).count()
    };
    wait_for("drawing the amber bar", || amber() > 20_000);
    judge_says_yes("kill", &[&shown.id().to_string()]);
    shown.wait().expect("ended");
    judge_says_yes("kill", &[&server.id().to_string()]);
    server.wait().expect("ended");
}

#[test]
fn many_small_files_build_list_and_run() {
    let folder = Folder::least();
    for dir in 0..100 {
        std::fs::create_dir_all(folder.at(&format!("built/data/{dir:03}"))).expect("folder");
        for file in 0..200 {
            std::fs::write(folder.at(&format!("built/data/{dir:03}/file-{file:04}.txt")), format!("{dir} {file}\n"))
                .expect("written");
        }
    }
    folder.script(
        "built/bin/least",
        "find \"$APPDIR\" -name 'file-*' | wc -l; cat \"$APPDIR\"/usr/lib/*/data/077/file-0123.txt",
    );
    folder.ok(&["build"]);
    let package = folder.at("packages/Least-1.0.0-linux-x64.AppImage");
    let listed = folder.ok(&["inspect", package.to_str().expect("utf-8")]);
    assert!(listed.contains("files (20001,"), "{}", &listed[..200]);
    let out = start(&package).output().expect("started");
    assert_eq!(text(&out), "20000\n77 123\n");
}
