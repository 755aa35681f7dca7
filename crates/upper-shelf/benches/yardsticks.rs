//! How we stand beside general-purpose yardsticks, measured in one run on real files: the packer beside `mksquashfs`,
//! reading through our head beside the kernel's own driver, and the commands on very many small files. Prints ratios;
//! it is no test and never fails on a slow machine.
//!
//! `BENCH_PAYLOAD=FOLDER cargo bench -p upper-shelf` (as root, with squashfs-tools; a folder of 200 MB or more, such as
//! a browser and a Java runtime unpacked). `BENCH_ONLY=pack|read|setup|many|sign` does one part; `setup` needs `7zz`, `sign`
//! `openssl`.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

const PROGRAM: &str = env!("CARGO_BIN_EXE_upper-shelf");

struct Run {
    wall: f64,
    peak: u64,
    out: Vec<u8>,
}

/// Runs a command; its peak memory is what the kernel says shortly before it ends.
fn run(command: &mut Command) -> Run {
    let began = Instant::now();
    let mut child = command.stdout(Stdio::piped()).stderr(Stdio::null()).spawn().expect("started");
    let status = format!("/proc/{}/status", child.id());
    let mut out = child.stdout.take().expect("piped");
    let reader = std::thread::spawn(move || {
        let mut bytes = Vec::new();
        std::io::Read::read_to_end(&mut out, &mut bytes).expect("read");
        bytes
    });
    let mut peak = 0;
    while child.try_wait().expect("status").is_none() {
        let text = fs::read_to_string(&status).unwrap_or_default();
        let line = text.lines().find_map(|l| l.strip_prefix("VmHWM:")?.trim().strip_suffix(" kB")?.parse::<u64>().ok());
        peak = peak.max(line.unwrap_or(0) * 1024);
        std::thread::sleep(Duration::from_millis(5));
    }
    Run { wall: began.elapsed().as_secs_f64(), peak, out: reader.join().expect("no panic") }
}

/// User and system seconds of a command.
fn cpu(args: &[&str]) -> f64 {
    let out = Command::new("sh")
        .args(["-c", "\"$@\" >/dev/null 2>&1; times", "sh", PROGRAM])
        .args(args)
        .output()
        .expect("a shell");
    let text = String::from_utf8_lossy(&out.stdout).into_owned();
    let last = text.lines().last().unwrap_or_default().to_owned();
    let seconds = |word: &str| {
        let (m, s) = word.trim_end_matches('s').split_once('m').unwrap_or(("0", "0"));
        m.parse::<f64>().unwrap_or(0.0) * 60.0 + s.parse::<f64>().unwrap_or(0.0)
    };
    last.split_whitespace().map(seconds).sum()
}

fn mb(bytes: u64) -> f64 {
    bytes as f64 / 1e6
}

fn manifest(folder: &Path, payload: &Path, settings: &str) -> PathBuf {
    let program = payload.join("bench-program");
    if !program.exists() {
        fs::write(&program, "#!/bin/sh\nexec \"$@\"\n").expect("written");
        fs::set_permissions(&program, std::os::unix::fs::PermissionsExt::from_mode(0o755)).expect("mode");
    }
    let path = folder.join("shelf.toml");
    let text = format!(
        "[product]\nid = \"works.fernhollow.bench\"\nname = \"Bench\"\nversion = \"1.0\"\npublisher = \"p\"\n[[layer]]\nfrom = \"{}\"\n[[program]]\nkey = \"app\"\nfile = \"bench-program\"\n[targets]\nplatforms = [\"linux-x64\"]\nbuild = [\"appimage\"]\n[target.appimage]\n{settings}\n",
        payload.display()
    );
    fs::write(&path, text).expect("written");
    path
}

/// Seconds for packing, bytes of the image without its head, peak memory.
fn ours(folder: &Path, payload: &Path, settings: &str) -> (f64, u64, u64) {
    let manifest = manifest(folder, payload, settings);
    let run = run(Command::new(PROGRAM).args(["build", "--json"]).arg(&manifest));
    let built: serde_json::Value = serde_json::from_slice(&run.out).expect("a report");
    let head = 553_000;
    (
        built[0]["seconds"].as_f64().unwrap_or_else(|| panic!("the build failed: {built}")),
        built[0]["bytes"].as_u64().expect("bytes") - head,
        run.peak,
    )
}

fn theirs(folder: &Path, payload: &Path, args: &[&str]) -> (f64, u64, u64) {
    let image = folder.join("yardstick.squashfs");
    let _ = fs::remove_file(&image);
    let run = run(Command::new("mksquashfs").arg(payload).arg(&image).args(args).args([
        "-no-progress",
        "-quiet",
        "-all-root",
        "-no-xattrs",
    ]));
    (run.wall, image.metadata().expect("an image").len(), run.peak)
}

fn pack(folder: &Path, payload: &Path) {
    println!("packing beside mksquashfs, same codec, level and block size (ours / theirs)");
    let cases = [
        (
            "gzip 9, 128 KiB",
            "compression = \"gzip\"\nlevel = 9\nblock-size = 131072",
            vec!["-comp", "gzip", "-b", "131072"],
        ),
        (
            "zstd 9, 1 MiB",
            "compression = \"zstd\"\nlevel = 9",
            vec!["-comp", "zstd", "-Xcompression-level", "9", "-b", "1048576"],
        ),
        (
            "zstd 15, 128 KiB",
            "compression = \"zstd\"\nlevel = 15\nblock-size = 131072",
            vec!["-comp", "zstd", "-Xcompression-level", "15", "-b", "131072"],
        ),
        ("xz 6, 1 MiB", "compression = \"xz\"\nlevel = 6", vec!["-comp", "xz", "-b", "1048576"]),
    ];
    let mut zstd15 = None;
    let mut default = None;
    for (name, settings, args) in cases {
        let a = ours(folder, payload, settings);
        let b = theirs(folder, payload, &args);
        println!(
            "  {name:<18} time {:>6.1} s / {:>6.1} s = {:.2}   size {:>6.1} / {:>6.1} MB = {:.4}   memory {:>5.0} / {:>5.0} MB = {:.2}",
            a.0,
            b.0,
            a.0 / b.0,
            mb(a.1),
            mb(b.1),
            a.1 as f64 / b.1 as f64,
            mb(a.2),
            mb(b.2),
            a.2 as f64 / b.2 as f64
        );
        if name.starts_with("zstd 15") {
            zstd15 = Some(b);
        }
        if name.starts_with("zstd 9") {
            default = Some(a);
        }
    }
    if let (Some(a), Some(b)) = (default, zstd15) {
        println!(
            "  our default beside its zstd 15, 128 KiB: time {:.2}, size {:.4}",
            a.0 / b.0,
            a.1 as f64 / b.1 as f64
        );
    }
}

/// Bytes in a second of reading all files, one after the other.
fn read_all(root: &Path) -> f64 {
    let mut buffer = vec![0; 1 << 20];
    let (mut total, began) = (0u64, Instant::now());
    let mut stack = vec![root.to_owned()];
    while let Some(dir) = stack.pop() {
        for entry in fs::read_dir(dir).expect("a folder").flatten() {
            match entry.file_type() {
                Ok(t) if t.is_dir() => stack.push(entry.path()),
                Ok(t) if t.is_file() => {
                    let mut file = fs::File::open(entry.path()).expect("a file");
                    while let Ok(n @ 1..) = std::io::Read::read(&mut file, &mut buffer) {
                        total += n as u64;
                    }
                }
                _ => {}
            }
        }
    }
    total as f64 / began.elapsed().as_secs_f64()
}

fn storm(root: &Path) -> (f64, usize) {
    let (mut count, began) = (0, Instant::now());
    let mut stack = vec![root.to_owned()];
    while let Some(dir) = stack.pop() {
        for entry in fs::read_dir(dir).expect("a folder").flatten() {
            count += 1;
            if entry.path().symlink_metadata().expect("metadata").is_dir() {
                stack.push(entry.path());
            }
        }
    }
    (began.elapsed().as_secs_f64(), count)
}

/// The slowest of many random 4 KiB reads in the largest file, and their mean, in milliseconds.
fn random_reads(root: &Path) -> (f64, f64) {
    let mut largest = (0, PathBuf::new());
    let mut stack = vec![root.to_owned()];
    while let Some(dir) = stack.pop() {
        for entry in fs::read_dir(dir).expect("a folder").flatten() {
            match entry.metadata() {
                Ok(m) if m.is_dir() => stack.push(entry.path()),
                Ok(m) if m.is_file() && m.len() > largest.0 => largest = (m.len(), entry.path()),
                _ => {}
            }
        }
    }
    let file = fs::File::open(&largest.1).expect("a file");
    let (mut slowest, began) = (0f64, Instant::now());
    let mut place = 12_345u64;
    for _ in 0..500 {
        place = place.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        let one = Instant::now();
        let mut bytes = [0; 4096];
        let at = (place >> 20) % (largest.0 - 4096);
        std::os::unix::fs::FileExt::read_exact_at(&file, &mut bytes, at).expect("read");
        slowest = slowest.max(one.elapsed().as_secs_f64() * 1e3);
    }
    (slowest, began.elapsed().as_secs_f64() * 1e3 / 500.0)
}

fn read(folder: &Path, payload: &Path) {
    println!("reading through our head beside the kernel's own driver, the same image");
    let package = folder.join("packages/Bench-1.0-linux-x64.AppImage");
    ours(folder, payload, "compression = \"zstd\"\nlevel = 9");
    let mut starts: Vec<f64> = (0..9)
        .map(|_| {
            let began = Instant::now();
            Command::new(&package).arg("true").status().expect("started");
            began.elapsed().as_secs_f64() * 1e3
        })
        .collect();
    starts.sort_by(f64::total_cmp);
    println!("  start, mount and end of `true`: median {:.1} ms, slowest {:.1} ms", starts[4], starts[8]);
    let offset = Command::new(&package).arg("--appimage-offset").output().expect("started").stdout;
    let offset = String::from_utf8_lossy(&offset).trim().to_owned();
    let at = folder.join("kernel");
    fs::create_dir_all(&at).expect("folder");
    let mut results = Vec::new();
    // Sequential reading has a fresh mount of its own: nothing may be in the system's cache already.
    for (ours, sequential) in [(false, true), (true, true), (false, false), (true, false)] {
        let mut child = None;
        let root = if ours {
            let mut held =
                Command::new(&package).arg("--appimage-mount").stdout(Stdio::piped()).spawn().expect("started");
            let mut line = String::new();
            std::io::BufRead::read_line(&mut std::io::BufReader::new(held.stdout.as_mut().expect("piped")), &mut line)
                .expect("a line");
            child = Some(held);
            PathBuf::from(line.trim())
        } else {
            let status = Command::new("mount")
                .args(["-t", "squashfs", "-o", &format!("ro,loop,offset={offset}")])
                .arg(&package)
                .arg(&at)
                .status();
            assert!(status.expect("mount").success(), "the kernel mounts it (as root)");
            at.clone()
        };
        let who = if ours { "our head" } else { "the kernel" };
        if sequential {
            let speed = read_all(&root);
            println!("  {who:<10} sequential {:.0} MB/s", speed / 1e6);
            results.push(speed);
        } else {
            let (seconds, count) = storm(&root);
            let (slowest, mean) = random_reads(&root);
            let stat = seconds * 1e3;
            println!(
                "  {who:<10} stat of {count} names {stat:.0} ms; random 4 KiB: mean {mean:.2} ms, slowest {slowest:.1} ms"
            );
        }
        match child {
            Some(mut held) => {
                Command::new("kill").args(["-INT", &held.id().to_string()]).status().expect("kill");
                held.wait().expect("ended");
            }
            None => drop(Command::new("umount").arg(&at).status()),
        }
    }
    println!("  sequential, ours / the kernel's: {:.2}", results[1] / results[0]);
}

/// A setup program beside a general archiver with the same codec and dictionary. Both get one tar: the order of files,
/// which each chooses for itself, is not what is measured. Theirs packs on one thread; ours is given one processor, and
/// then all. Reading back is in ours.
fn setup(folder: &Path, payload: &Path) {
    println!("packing a setup program beside 7zz on one thread, LZMA, 32 MiB dictionary, one tar (ours / theirs)");
    let built = folder.join("windows");
    fs::create_dir_all(&built).expect("a folder");
    fs::write(built.join("bench.exe"), include_bytes!("../../../heads/window-reader/prebuilt/window-reader.exe"))
        .expect("written");
    let tar = built.join("payload.tar");
    let status = Command::new("tar").arg("-cf").arg(&tar).arg("-C").arg(payload).arg(".").status().expect("tar");
    assert!(status.success(), "tar packs the payload");
    let manifest = folder.join("setup.toml");
    let text = "[product]\nid = \"works.fernhollow.bench\"\nname = \"Bench\"\nversion = \"1.0\"\npublisher = \"p\"\n[[layer]]\nfrom = \"windows\"\n[[program]]\nkey = \"app\"\nfile = \"bench.exe\"\n[targets]\nplatforms = [\"windows-x64\"]\nbuild = [\"nsis\"]\n";
    fs::write(&manifest, text).expect("written");
    let archive = folder.join("yardstick.7z");
    let _ = fs::remove_file(&archive);
    let theirs = run(Command::new("7zz")
        .args(["a", "-bd", "-m0=lzma:d=32m", "-mmt=1"])
        .arg(&archive)
        .arg(&tar)
        .arg(built.join("bench.exe")));
    let size = archive.metadata().expect("an archive").len();
    for (name, command) in [("one processor", &["taskset", "-c", "0", PROGRAM][..]), ("all processors", &[PROGRAM])] {
        let ours = run(Command::new(command[0]).args(&command[1..]).args(["build", "--json"]).arg(&manifest));
        let report: serde_json::Value = serde_json::from_slice(&ours.out).expect("a report");
        let bytes = report[0]["bytes"].as_u64().unwrap_or_else(|| panic!("the build failed: {report}"));
        println!(
            "  {name:<14} time {:.1} s / {:.1} s = {:.2}   size {:.1} / {:.1} MB = {:.4}   memory {:.0} / {:.0} MB = {:.2}",
            ours.wall,
            theirs.wall,
            ours.wall / theirs.wall,
            mb(bytes),
            mb(size),
            bytes as f64 / size as f64,
            mb(ours.peak),
            mb(theirs.peak),
            ours.peak as f64 / theirs.peak as f64
        );
    }
}

fn many(folder: &Path) {
    println!("100,000 small files");
    let payload = folder.join("many");
    for dir in 0..250 {
        fs::create_dir_all(payload.join(format!("{dir:03}"))).expect("folder");
        for file in 0..400 {
            fs::write(
                payload.join(format!("{dir:03}/file-{file:04}.txt")),
                format!("{dir} {file} {}", "comb ".repeat(file % 60)),
            )
            .expect("written");
        }
    }
    let manifest = manifest(folder, &payload, "");
    let path = manifest.to_str().expect("utf-8");
    println!("  check   {:.2} s of CPU", cpu(&["check", path]));
    println!("  plan    {:.2} s of CPU", cpu(&["plan", path]));
    let built = run(Command::new(PROGRAM).args(["build", "--json"]).arg(&manifest));
    println!("  build   {:.2} s with reading back, memory {:.0} MB", built.wall, mb(built.peak));
    let package = folder.join("packages/Bench-1.0-linux-x64.AppImage");
    let listed = run(Command::new(PROGRAM).arg("inspect").arg(&package));
    println!("  inspect {:.2} s, memory {:.0} MB", listed.wall, mb(listed.peak));
    let began = Instant::now();
    let out = Command::new(&package).args(["sh", "-c", "find $APPDIR -type f | wc -l"]).output().expect("started");
    println!(
        "  a run that lists {} files {:.2} s",
        String::from_utf8_lossy(&out.stdout).trim(),
        began.elapsed().as_secs_f64()
    );
}

/// Three hundred programs, signed with timestamps: the first time, again, and without; beside as many signatures by openssl,
/// which is started once for each.
fn sign(folder: &Path) {
    const COUNT: usize = 300;
    let programs = [
        ("windows-x64", "exe", &include_bytes!("../../../demo/files/built/windows-x64/combwright.exe")[..]),
        ("macos-arm64", "dylib", include_bytes!("../../../demo/files/built/macos-arm64/combwright")),
    ];
    let at = |name: &str| folder.join(name);
    let text = |path: &Path| path.to_str().expect("text").to_owned();
    run(Command::new(PROGRAM).args(["keys", "make", &text(&at("keys")), "--publisher", "Bench", "--kind", "p256"]));
    let mut clock = Command::new(PROGRAM);
    clock.args(["simulate", "timestamps", "--json", &text(&at("keys"))]).stdout(Stdio::piped());
    let mut clock = clock.spawn().expect("started");
    let mut said = String::new();
    let mut lines = std::io::BufReader::new(clock.stdout.take().expect("piped"));
    while !said.contains('}') {
        std::io::BufRead::read_line(&mut lines, &mut said).expect("read");
    }
    let address = said.split('"').find(|part| part.starts_with("http")).expect("an address").to_owned();
    for (platform, ending, program) in programs {
        let built = at(platform);
        fs::create_dir_all(&built).expect("a folder");
        for n in 0..COUNT {
            let mut bytes = program.to_vec();
            // In the middle of the code: each is another one.
            let place = bytes.len() / 2;
            bytes[place..place + 4].copy_from_slice(&(n as u32).to_le_bytes());
            fs::write(built.join(format!("program{n}.{ending}")), bytes).expect("written");
        }
        let system = platform.split('-').next().unwrap_or_default();
        let manifest = |signing: &str| {
            format!(
                "[product]\nid = \"works.example.bench\"\nname = \"Bench\"\nversion = \"1\"\npublisher = \"Bench\"\n\n\
                 [[layer]]\nfrom = \"{}\"\n\n[[program]]\nkey = \"app\"\nfile = \"program0.{ending}\"\n\n\
                 [targets]\nbuild = [\"tar\"]\nplatforms = [\"{platform}\"]\noutput = \"{}\"\n\n{signing}",
                text(&built),
                text(&at("packages")),
            )
        };
        let signing = format!(
            "[signing.{system}]\nkey = \"keys/code-signing.key.pem\"\ncertificate = \"keys/code-signing.pem\"\n\
             timestamps = [\"{address}\"]\n"
        );
        let build = |signing: &str| {
            fs::write(at("shelf.toml"), manifest(signing)).expect("written");
            let mut command = Command::new(PROGRAM);
            run(command.arg("build").arg(folder).env("XDG_CACHE_HOME", at("cache"))).wall
        };
        let (plain, first, again) = (build(""), build(&signing), build(&signing));
        let script = format!(
            "for n in $(seq 0 {}); do openssl dgst -sha256 -sign keys/code-signing.key.pem -out s {platform}/program$n.{ending}; done",
            COUNT - 1
        );
        let theirs = run(Command::new("sh").args(["-c", &script]).current_dir(folder)).wall;
        println!(
            "{COUNT} programs for {platform}: {plain:.2} s without a key, {first:.2} s signed with timestamps, {again:.2} s again; \
             openssl dgst {theirs:.2} s: {:.2}×",
            (first - plain) / theirs
        );
    }
    let _ = clock.kill();
    let _ = clock.wait();
}

fn main() {
    let only = std::env::var("BENCH_ONLY").unwrap_or_default();
    let folder = std::env::temp_dir().join(format!("upper-shelf-bench-{}", std::process::id()));
    fs::create_dir_all(&folder).expect("a folder");
    let wanted = |part: &str| only.is_empty() || only == part;
    match std::env::var_os("BENCH_PAYLOAD").map(PathBuf::from) {
        Some(payload) => {
            if wanted("pack") {
                pack(&folder, &payload);
            }
            if wanted("read") {
                read(&folder, &payload);
            }
            if wanted("setup") {
                setup(&folder, &payload);
            }
        }
        None => println!("BENCH_PAYLOAD names no folder: packing and reading are left out"),
    }
    if wanted("many") {
        many(&folder);
    }
    if wanted("sign") {
        sign(&folder);
    }
    let _ = fs::remove_dir_all(&folder);
}
