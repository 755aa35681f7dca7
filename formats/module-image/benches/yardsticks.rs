//! A large image and one with some of its modules, beside a plain copy of the same bytes. Prints times and ratios.

use module_image::{Content, Image, Writer};
use std::fs::File;
use std::io::BufWriter;
use std::time::Instant;

fn main() {
    let path = std::env::var("MODULES").unwrap_or_else(|_| "/usr/lib/jvm/java-17-openjdk-amd64/lib/modules".into());
    let folder = tempfile::tempdir().expect("a folder");
    let out = folder.path().join("modules");
    let start = Instant::now();
    std::fs::copy(&path, &out).expect("copied");
    let copied = start.elapsed().as_secs_f64();
    for (name, all) in [("all modules", true), ("java.base and java.logging", false)] {
        let start = Instant::now();
        let image = Image::open(File::open(&path).expect("an image")).expect("an image");
        let mut writer = Writer::new();
        for entry in image.entries().map(|entry| entry.expect("an entry")) {
            if !entry.name.is_of_a_tree() && (all || ["java.base", "java.logging"].contains(&entry.name.module)) {
                writer.add(&entry.name.to_string(), Content::Copied(entry)).expect("a name");
            }
        }
        let mut to = BufWriter::new(File::create(&out).expect("a file"));
        writer.write(&image, &mut to).expect("written");
        let took = start.elapsed().as_secs_f64();
        println!("{name}: {took:.2} s, {:.1} times a copy of the whole", took / copied);
    }
}
