//! A hive of 100,000 values beside the same values as lines of text, in one run. Prints ratios; it is no test and never fails on a
//! slow machine. `cargo bench -p registry-hive`

use registry_hive::{Key, LIMITS, Value, check, kind, read_within, text, write};
use std::time::Instant;

fn main() {
    let mut root = Key::new("ROOT");
    for n in 0..100_000u32 {
        let (above, below) = (format!("Key {}", n / 1000), format!("Key {}", n / 10 % 100));
        let key = root.make(&["SOFTWARE", "Fernhollow", &above, &below]);
        key.values.push(Value::new(&format!("Value {n}"), kind::SZ, text(&format!("the hive number {n}"))));
    }
    let began = Instant::now();
    let bytes = write(&root, &Default::default()).expect("a hive");
    let written = began.elapsed().as_secs_f64();
    let began = Instant::now();
    assert!(read_within(&bytes, LIMITS).expect("read") == root);
    let seconds = began.elapsed().as_secs_f64();
    let began = Instant::now();
    assert!(check(&bytes).expect("checked").is_empty());
    let checked = began.elapsed().as_secs_f64();
    let began = Instant::now();
    let mut lines = String::new();
    let mut left = vec![(String::new(), &root)];
    while let Some((path, key)) = left.pop() {
        for value in &key.values {
            lines += &format!("{path}\\{}={}\n", value.name, value.text().unwrap_or_default());
        }
        left.extend(key.keys.iter().map(|below| (format!("{path}\\{}", below.name), below)));
    }
    let plain = began.elapsed().as_secs_f64();
    println!(
        "100,000 values: written in {written:.3} s, read in {seconds:.3} s, checked in {checked:.3} s, {:.1} MB; as lines of text {plain:.3} s, {:.1} MB: {:.1}× the time, {:.1}× the size",
        bytes.len() as f64 / 1e6,
        lines.len() as f64 / 1e6,
        written / plain,
        bytes.len() as f64 / lines.len() as f64
    );
}
