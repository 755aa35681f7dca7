//! Packing beside a bare loop that deflates (level 6) and hashes the same blocks on as many threads, in one run: time, size, and
//! 100,000 small parts. Prints ratios; it is no test and never fails on a slow machine.
//!
//! `BENCH_PAYLOAD=FOLDER cargo bench -p opc` (a folder of 200 MB or more).

use flate2::{Compress, Compression, FlushCompress};
use opc::BLOCK;
use opc::write::{Options, Writer};
use sha2::{Digest, Sha256};
use std::fs::{self, File};
use std::io::BufWriter;
use std::path::{Path, PathBuf};
use std::time::Instant;

fn files(folder: &Path, all: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
        let path = entry.path();
        match entry.file_type() {
            Ok(kind) if kind.is_dir() => files(&path, all),
            Ok(kind) if kind.is_file() => all.push(path),
            _ => {}
        }
    }
}

/// Packed bytes of blocks, by a thread that takes its share of them.
fn bare(blocks: &[&[u8]], threads: usize) -> u64 {
    let share = |n: usize| {
        let mut deflate = Compress::new(Compression::new(6), false);
        let mut out = Vec::with_capacity(2 * BLOCK);
        let own = blocks.iter().skip(n).step_by(threads);
        own.map(|block| {
            std::hint::black_box(Sha256::digest(block));
            out.clear();
            deflate.reset();
            deflate.compress_vec(block, &mut out, FlushCompress::Full).expect("packed");
            out.len() as u64
        })
        .sum::<u64>()
    };
    std::thread::scope(|scope| {
        let all: Vec<_> = (0..threads).map(|n| scope.spawn(move || share(n))).collect();
        all.into_iter().map(|thread| thread.join().expect("no panic")).sum()
    })
}

fn packed(parts: &[Vec<u8>], options: Options, to: &Path) -> u64 {
    let file = BufWriter::with_capacity(1 << 18, File::create(to).expect("a file"));
    let mut writer = Writer::new(file, options).expect("begun");
    for (n, bytes) in parts.iter().enumerate() {
        writer.part(&format!("files/{n}"), bytes.len() as u64, false).expect("a part");
        writer.data(bytes).expect("data");
    }
    writer.finish().expect("ended").into_inner().expect("flushed").metadata().expect("a file").len()
}

fn main() {
    let folder = std::env::var("BENCH_PAYLOAD").unwrap_or_else(|_| "/usr/share".into());
    let mut all = Vec::new();
    files(Path::new(&folder), &mut all);
    all.sort();
    let mut parts: Vec<Vec<u8>> = Vec::new();
    let mut total = 0;
    for path in all {
        let Ok(bytes) = fs::read(&path) else { continue };
        total += bytes.len();
        parts.push(bytes);
        if total > 400_000_000 {
            break;
        }
    }
    let blocks: Vec<&[u8]> = parts.iter().flat_map(|part| part.chunks(BLOCK)).collect();
    let to = std::env::temp_dir().join(format!("opc-bench-{}", std::process::id()));
    println!("{folder}: {} files, {:.0} MB, {} blocks", parts.len(), total as f64 / 1e6, blocks.len());
    for threads in [1, std::thread::available_parallelism().map_or(1, |n| n.get())] {
        let (mut own, mut loops, mut sizes) = (f64::MAX, f64::MAX, (0, 0));
        // The better of three, taken in turn.
        for _ in 0..3 {
            let began = Instant::now();
            sizes.0 = packed(&parts, Options { threads, ..Options::default() }, &to);
            own = own.min(began.elapsed().as_secs_f64());
            let began = Instant::now();
            sizes.1 = bare(&blocks, threads);
            loops = loops.min(began.elapsed().as_secs_f64());
        }
        println!(
            "{threads} threads: {own:.2} s, bare loop {loops:.2} s: {:.2}×; {:.1} MB, blocks alone {:.1} MB: {:.3}×",
            own / loops,
            sizes.0 as f64 / 1e6,
            sizes.1 as f64 / 1e6,
            sizes.0 as f64 / sizes.1 as f64
        );
    }
    let small: Vec<Vec<u8>> = (0..100_000u32).map(|n| n.to_le_bytes().repeat(1 + n as usize % 200)).collect();
    let began = Instant::now();
    packed(&small, Options { threads: 2, level: 1, ..Options::default() }, &to);
    println!("100,000 small parts, level 1: {:.2} s", began.elapsed().as_secs_f64());
    let _ = fs::remove_file(to);
}
