//! Small files that ask for much: each is answered with a sentence, within 256 MB of memory and five seconds of processor
//! time, and what is too much for the usual limits can be read with higher ones.

use crate::common::{Folder, PROGRAM};
use std::fs::File;
use std::io::{self, Read, Write};
use std::path::Path;
use test_support::judge_says_yes;

/// Most memory, in kilobytes, and processor time.
const MEMORY: u64 = 256_000;
const SECONDS: f64 = 5.0;

/// Runs the program; gives its exit code and what it said. It must keep to memory and time.
fn bounded(folder: &Folder, args: &[&str]) -> (i32, String) {
    let script = "import resource, subprocess, sys
r = subprocess.run(sys.argv[1:], stdout=subprocess.PIPE, stderr=subprocess.STDOUT)
u = resource.getrusage(resource.RUSAGE_CHILDREN)
print(r.returncode, u.ru_maxrss, u.ru_utime + u.ru_stime)
sys.stdout.write(r.stdout.decode('utf-8', 'replace')[:4000])";
    let all: Vec<String> = ["-c", script, PROGRAM]
        .into_iter()
        .map(str::to_owned)
        .chain(
            args.iter().map(|a| if folder.at(a).exists() { folder.at(a).display().to_string() } else { (*a).into() }),
        )
        .collect();
    let all: Vec<&str> = all.iter().map(String::as_str).collect();
    let said = judge_says_yes("python3", &all);
    let (numbers, text) = said.split_once('\n').expect("a line of numbers");
    let mut numbers = numbers.split(' ');
    let code: i32 = numbers.next().and_then(|n| n.parse().ok()).expect("a code");
    let memory: u64 = numbers.next().and_then(|n| n.parse().ok()).expect("kilobytes");
    let seconds: f64 = numbers.next().and_then(|n| n.parse().ok()).expect("seconds");
    assert!(memory < MEMORY && seconds < SECONDS, "{args:?}: {memory} kB, {seconds} s; {text}");
    assert!(code >= 0, "{args:?} ended by the signal {}: {text}", -code);
    (code, text.to_owned())
}

fn tar_header(name: &str, kind: u8, size: u64) -> Vec<u8> {
    let mut header = tar::Header::new_gnu();
    header.set_path(name).expect("a name");
    header.set_entry_type(tar::EntryType::new(kind));
    header.set_size(size);
    header.set_mode(0o644);
    header.set_cksum();
    header.as_bytes().to_vec()
}

/// An archive that is packed with gzip, from parts.
fn packed(path: &Path, parts: impl FnOnce(&mut dyn Write) -> io::Result<()>) {
    let file = File::create(path).expect("made");
    let mut out = flate2::write::GzEncoder::new(io::BufWriter::new(file), flate2::Compression::fast());
    parts(&mut out).expect("written");
    out.finish().and_then(|mut f| f.flush()).expect("whole");
}

fn letters(out: &mut dyn Write, count: u64) -> io::Result<()> {
    io::copy(&mut io::repeat(b'a').take(count), out).map(drop)
}

#[test]
fn names_and_extensions_of_archives_are_not_kept_whole() {
    let folder = Folder::new();
    // More than the memory that is allowed.
    let much = 300 << 20;
    packed(&folder.at("name.tar.gz"), |out| {
        out.write_all(&tar_header("././@LongLink", b'L', much))?;
        letters(out, much)
    });
    packed(&folder.at("extension.tar.gz"), |out| {
        out.write_all(&tar_header("pax", b'x', much))?;
        letters(out, much)
    });
    packed(&folder.at("files.tar.gz"), |out| {
        for n in 0..100 {
            out.write_all(&tar_header(&format!("top/share/applications/{n}.desktop"), b'0', 3 << 20))?;
            letters(out, 3 << 20)?;
        }
        Ok(())
    });
    packed(&folder.at("names.tar.gz"), |out| {
        (0..400_000).try_for_each(|n| out.write_all(&tar_header(&format!("top/{n}"), b'0', 0)))
    });
    for name in ["name.tar.gz", "extension.tar.gz", "files.tar.gz", "names.tar.gz"] {
        let (code, said) = bounded(&folder, &["inspect", name]);
        assert_eq!(code, 4, "{name}: {said}");
        assert!(said.contains("`--limit` raises the limit"), "{name}: {said}");
    }
    // Somebody may want it all the same.
    let (code, said) = folder.run(&["inspect", "names.tar.gz", "--limit", "2"]);
    assert_eq!(code, 0, "{}", &said[..200.min(said.len())]);
}

#[test]
fn many_names_of_a_zip_are_counted() {
    let folder = Folder::new();
    let mut zip = zip::ZipWriter::new(io::BufWriter::new(File::create(folder.at("names.zip")).expect("made")));
    let options = zip::write::SimpleFileOptions::default().compression_method(zip::CompressionMethod::Stored);
    (0..310_000).for_each(|n| zip.start_file(n.to_string(), options).expect("begun"));
    zip.finish().and_then(|mut f| Ok(f.flush()?)).expect("whole");
    let out = folder.command(&["inspect", "names.zip"]).output().expect("run");
    assert_eq!(out.status.code(), Some(4));
    assert!(String::from_utf8_lossy(&out.stderr).contains("more than 300000 names"));
}

#[test]
fn a_hole_without_end_fills_no_disk_and_a_large_one_stays_a_hole() {
    let folder = Folder::new();
    for (name, hole) in [("endless", 64u64 << 30), ("large", 1 << 30)] {
        let mut file = File::options().read(true).write(true).create_new(true).open(folder.at(name)).expect("made");
        file.write_all(&super::foreign::elf_head()).expect("written");
        let options = squashfs::write::Options { threads: 1, ..Default::default() };
        let mut image = squashfs::write::Writer::new(file, options).expect("begun");
        image.begin_file(b"hole", squashfs::write::Meta::file(0o644)).expect("begun");
        image.zeros(hole).expect("zeros");
        image.data(b"end").expect("written");
        image.end_file(None).expect("ended");
        image.finish().expect("whole");
    }
    for args in [["inspect", "endless", "--contents"], ["extract", "endless", "out"]] {
        let (code, said) = bounded(&folder, &args);
        assert!(code == 4 && said.contains("uncompressed bytes for its size"), "{args:?}: {said}");
    }
    assert!(!folder.at("out").exists());
    folder.ok(&["extract", "large", "out"]);
    let meta = folder.at("out/hole").metadata().expect("there");
    assert_eq!(meta.len(), (1 << 30) + 3);
    let on_disk = std::os::unix::fs::MetadataExt::blocks(&meta) * 512;
    assert!(on_disk < 1 << 20, "{on_disk} bytes on the disk");
}

#[test]
fn lists_in_lists_end_nothing_by_a_signal() {
    let folder = Folder::new();
    let mut zip = zip::ZipWriter::new(File::create(folder.at("deep.zip")).expect("made"));
    zip.start_file("Hives.app/Contents/Info.plist", zip::write::SimpleFileOptions::default()).expect("begun");
    zip.write_all(b"<plist version=\"1.0\">")
        .and_then(|()| zip.write_all("<array>".repeat(400_000).as_bytes()))
        .expect("written");
    zip.finish().expect("whole");
    let (code, said) = bounded(&folder, &["inspect", "deep.zip"]);
    assert_eq!(code, 0, "it is an archive like any other: {said}");
}

#[test]
fn a_manifest_of_thousands_of_slips_is_answered_soon() {
    let folder = Folder::least();
    let least = std::fs::read_to_string(folder.at("shelf.toml")).expect("there");
    let slips: String = (0..100_000).map(|n| format!("slip{n} = 1\n")).collect();
    folder.write("slips/shelf.toml", slips + &least);
    folder.write("layers/shelf.toml", least.clone() + &"[[layer]]\nfrom = \"built\"\n".repeat(20_000));
    folder.write("long/shelf.toml", least + &"# comment\n".repeat(600_000));
    for (name, sentence) in
        [("slips", "unknown key `slip0` in the manifest"), ("layers", "20001 layers"), ("long", "larger than 4 MiB")]
    {
        let (code, said) = bounded(&folder, &["check", name]);
        assert!(code != 0 && said.contains(sentence), "{name}: {code}: {said}");
    }
}

#[test]
fn packages_of_windows_and_hives_cost_little() {
    let folder = Folder::new();
    let writer = |name: &str| {
        let file = File::options().read(true).write(true).create_new(true).open(folder.at(name)).expect("made");
        opc::write::Writer::new(file, opc::write::Options { level: 1, ..Default::default() }).expect("begun")
    };
    // A manifest, a hive and a file that are small only as long as they are packed.
    for (name, part, bytes) in [
        ("manifest.msix", "AppxManifest.xml", 200u64 << 20),
        ("hive.msix", "Registry.dat", 200 << 20),
        ("file.msix", "data.bin", 300 << 20),
    ] {
        let mut out = writer(name);
        out.part(part, bytes, false).expect("a part");
        let zeros = vec![b' '; 1 << 20];
        (0..bytes >> 20).for_each(|_| out.data(&zeros).expect("data"));
        if part != "AppxManifest.xml" {
            let manifest = b"<Package><Identity Name='a' Publisher='CN=a' Version='1.0.0.0'/></Package>";
            out.part("AppxManifest.xml", manifest.len() as u64, false).expect("a part");
            out.data(manifest).expect("data");
        }
        out.finish().expect("whole");
        for command in ["inspect", "check"] {
            let (code, said) = bounded(&folder, &[command, name]);
            assert!([0, 1, 4].contains(&code), "{command} {name}: {said}");
        }
    }
    // Keys that all name one list of keys.
    let mut root = registry_hive::Key::new("ROOT");
    (0..3000).for_each(|n| root.keys.push(registry_hive::Key::new(&format!("k{n:04}"))));
    let mut hive = registry_hive::write(&root, &registry_hive::Options::default()).expect("a hive");
    let word = |hive: &[u8], at: usize| u32::from_le_bytes(hive[at..at + 4].try_into().expect("four bytes"));
    let first = 4096 + word(&hive, 36) as usize + 4;
    let (count, list) = (word(&hive, first + 20), word(&hive, first + 28));
    for at in (4096 + 36..hive.len() - 80).step_by(8) {
        if hive[at..].starts_with(b"nk") {
            hive[at + 20..at + 24].copy_from_slice(&count.to_le_bytes());
            hive[at + 28..at + 32].copy_from_slice(&list.to_le_bytes());
        }
    }
    folder.write("circle.dat", hive);
    for command in ["inspect", "check"] {
        let (code, said) = bounded(&folder, &[command, "circle.dat"]);
        assert!(code == 4, "{command}: {said}");
    }
}
