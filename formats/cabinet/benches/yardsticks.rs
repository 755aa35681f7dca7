//! How cabinets stand beside general-purpose yardsticks, measured in one run on real files: MSZIP beside `gcab`, LZX
//! beside `wimlib-imagex`. Prints ratios (ours / theirs); it is no test.
//!
//! `BENCH_PAYLOAD=FOLDER cargo bench -p cabinet` (with Debian's gcab and wimtools).

use cabinet::Method;
use cabinet::write::{Entry, Options, Writer};
use std::fs::{self, File};
use std::io::Read;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Instant;

fn files(folder: &Path, into: &mut Vec<PathBuf>) {
    let mut names: Vec<PathBuf> = fs::read_dir(folder).expect("a folder").flatten().map(|e| e.path()).collect();
    names.sort();
    for path in names {
        let meta = path.symlink_metadata().expect("meta");
        if meta.is_dir() {
            files(&path, into);
        } else if meta.is_file() {
            into.push(path);
        }
    }
}

fn ours(files: &[PathBuf], to: &Path, method: Method, threads: usize) -> (f64, u64) {
    let began = Instant::now();
    let entries = files.iter().map(|f| Entry::new(f.display().to_string(), f.metadata().expect("meta").len()));
    let out = File::create(to).expect("made");
    let options = Options { method, threads, ..Options::default() };
    let mut writer = Writer::new(std::io::BufWriter::new(out), entries.collect(), options).expect("begun");
    let mut buffer = vec![0; 1 << 18];
    for file in files {
        let mut file = File::open(file).expect("opened");
        loop {
            let n = file.read(&mut buffer).expect("read");
            if n == 0 {
                break;
            }
            writer.data(&buffer[..n]).expect("written");
        }
    }
    let (_, summary) = writer.finish().expect("finished");
    (began.elapsed().as_secs_f64(), summary.bytes)
}

fn theirs(command: &mut Command, to: &Path) -> (f64, u64) {
    let _ = fs::remove_file(to);
    let began = Instant::now();
    let status = command.stdout(Stdio::null()).stderr(Stdio::null()).status().expect("the yardstick is installed");
    assert!(status.success(), "{command:?}");
    (began.elapsed().as_secs_f64(), to.metadata().expect("made").len())
}

fn main() {
    let Some(payload) = std::env::var_os("BENCH_PAYLOAD").map(PathBuf::from) else {
        println!("BENCH_PAYLOAD names no folder: nothing is measured");
        return;
    };
    let only = std::env::var("BENCH_ONLY").unwrap_or_default();
    let mut list = Vec::new();
    files(&payload, &mut list);
    let plain: u64 = list.iter().map(|f| f.metadata().expect("meta").len()).sum();
    let folder = std::env::temp_dir().join(format!("cabinet-bench-{}", std::process::id()));
    fs::create_dir_all(&folder).expect("a folder");
    println!("{} files, {:.1} MB", list.len(), plain as f64 / 1e6);
    let show = |what: &str, (seconds, bytes): (f64, u64)| {
        println!("  {what:34} {seconds:7.2} s  {:8.2} MB/s  {bytes:>12} bytes", plain as f64 / 1e6 / seconds);
    };
    let (a, b) = (folder.join("a"), folder.join("b"));
    let mut zip = None;
    if only.is_empty() || only == "mszip" {
        let ours = ours(&list, &a, Method::Mszip, 2);
        show("MSZIP", ours);
        let theirs = theirs(Command::new("gcab").arg("-zc").arg(&b).args(&list), &b);
        show("gcab, MSZIP", theirs);
        println!("  ratio: time {:.3}, size {:.4}", ours.0 / theirs.0, ours.1 as f64 / theirs.1 as f64);
        zip = Some(ours);
    }
    if only.is_empty() || only == "lzx" {
        let lzx = ours(&list, &a, Method::Lzx(21), 2);
        show("LZX, window 2 MiB", lzx);
        if let Some(zip) = zip {
            println!("  beside our MSZIP: size {:.4}", lzx.1 as f64 / zip.1 as f64);
        }
        for (what, extra) in [("its default", None), ("chunks of 2 MiB", Some("--chunk-size=2M"))] {
            let wim = folder.join("w.wim");
            let mut command = Command::new("wimlib-imagex");
            command
                .arg("capture")
                .arg(&payload)
                .arg(&wim)
                .args(["--compress=LZX", "--threads=2", "--no-acls"])
                .args(extra);
            let theirs = theirs(&mut command, &wim);
            show(&format!("wimlib-imagex, LZX, {what}"), theirs);
            println!("  ratio: time {:.3}, size {:.4}", lzx.0 / theirs.0, lzx.1 as f64 / theirs.1 as f64);
        }
    }
    fs::remove_dir_all(&folder).expect("removed");
}
