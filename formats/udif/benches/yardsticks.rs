//! The writer beside bare deflate: the same bytes in the same chunks at the same level on as many threads, and nothing
//! else done. Prints ratios; it is no test and never fails on a slow machine.
//!
//! `BENCH_PAYLOAD=FILE cargo bench -p udif` (a file of 100 MB or more: a tar of a runtime, say).

use std::io::Write;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::time::Instant;
use udif::codec::Codec;
use udif::write::{Options, Scheme, Writer};

const CHUNK: usize = 512 << 10;

/// Seconds and bytes of deflating all chunks.
fn bare(bytes: &[u8], level: u8, threads: usize) -> (f64, u64) {
    let chunks: Vec<&[u8]> = bytes.chunks(CHUNK).collect();
    let (next, sum) = (AtomicUsize::new(0), AtomicU64::new(0));
    let began = Instant::now();
    std::thread::scope(|scope| {
        for _ in 0..threads {
            scope.spawn(|| {
                let level = libdeflater::CompressionLvl::new(i32::from(level)).expect("a level");
                let mut deflate = libdeflater::Compressor::new(level);
                let mut out = vec![0; deflate.zlib_compress_bound(CHUNK)];
                while let Some(chunk) = chunks.get(next.fetch_add(1, Ordering::Relaxed)) {
                    let n = deflate.zlib_compress(chunk, &mut out).expect("room");
                    sum.fetch_add(n.min(chunk.len()) as u64, Ordering::Relaxed);
                }
            });
        }
    });
    (began.elapsed().as_secs_f64(), sum.into_inner())
}

fn main() {
    let Some(path) = std::env::var_os("BENCH_PAYLOAD") else {
        println!("BENCH_PAYLOAD names no file: nothing is measured");
        return;
    };
    let mut bytes = std::fs::read(path).expect("the payload");
    bytes.resize(bytes.len().next_multiple_of(4096), 0);
    println!("{:.0} MB, 2 threads (ours / bare deflate)", bytes.len() as f64 / 1e6);
    for level in [1, 6, 9] {
        let (seconds, size) = bare(&bytes, level, 2);
        let options = Options { codec: Codec::Zlib(level), threads: 2, scheme: Scheme::Gpt, ..Options::default() };
        let began = Instant::now();
        let mut writer = Writer::new(Vec::new(), bytes.len() as u64, options).expect("begun");
        writer.write_all(&bytes).expect("written");
        let image = writer.finish().expect("finished").len();
        let ours = began.elapsed().as_secs_f64();
        println!(
            "  level {level}: time {ours:.2} s / {seconds:.2} s = {:.2}   size {:.1} / {:.1} MB = {:.4}",
            ours / seconds,
            image as f64 / 1e6,
            size as f64 / 1e6,
            image as f64 / size as f64
        );
    }
}
