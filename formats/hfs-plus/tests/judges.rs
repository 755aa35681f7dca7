//! Independent readers of the volumes that we write: a real kernel's driver first of all.

#[cfg(unix)]
mod common;

#[cfg(unix)]
mod on_linux {
    use crate::common::*;
    use hfs_plus::write::{Builder, Options};
    use std::collections::BTreeMap;
    use test_support::kernel::in_volume;
    use test_support::{judge_says_yes, noise, prose};

    /// Every character of the basic plane that is one, is no control and may stand in a path. (This driver shows zeros as
    /// U+2400, and so can't find that itself.)
    fn characters() -> Vec<char> {
        let all = (0x20..0xFFFEu32).filter_map(char::from_u32);
        all.filter(|c| !matches!(c, '/' | '.' | '\u{2400}') && !(0xFDD0..=0xFDEF).contains(&u32::from(*c))).collect()
    }

    /// Looks each name up that the file `names` lists, a line each, and prints those that are not found.
    const LOOK_UP: &str =
        r#"perl -e 'open(F, "<", $ARGV[0]) or die; while (<F>) { chomp; print "$_\n" unless -f $_; }' "#;

    #[test]
    fn a_kernel_finds_every_character_of_the_basic_plane_as_a_name() {
        // One folder for each two hundred, and one for all that are one name to no other.
        let mut files = Vec::new();
        let mut seen = std::collections::HashSet::new();
        let mut plain = Vec::new();
        for (n, c) in characters().into_iter().enumerate() {
            let name = format!("x{c}y");
            let stored = hfs_plus::name::stored(&name).expect("a name");
            let folded: Vec<u16> = stored.iter().filter_map(|u| hfs_plus::name::folded(*u)).collect();
            files.push((format!("{:03}/{n}/{name}", n / 200), Vec::new()));
            if seen.insert(folded) {
                plain.push((format!("all/{name}"), Vec::new()));
            }
        }
        files.extend(plain);
        let volume = volume_of(&files, options());
        assert_eq!(findings(&open(volume.clone())), Vec::<String>::new());
        let folder = tempfile::tempdir().expect("a folder");
        let at = |name: &str| folder.path().join(name);
        std::fs::write(at("volume"), volume).expect("written");
        // As the names are stored: this driver's own table of what is decomposed is older than macOS's.
        let list = |decomposed: bool| {
            let stored = |p: &String| {
                let parts = p.split('/').map(|n| {
                    let units = hfs_plus::name::stored(n).expect("a name");
                    if decomposed { hfs_plus::name::shown(&units) } else { n.to_owned() }
                });
                parts.collect::<Vec<_>>().join("/")
            };
            files.iter().map(|(p, _)| stored(p) + "\n").collect::<String>()
        };
        std::fs::write(at("stored"), list(true)).expect("written");
        std::fs::write(at("typed"), list(false)).expect("written");
        let look = |list: &str| format!("{LOOK_UP} {}", at(list).display());
        let lost = in_volume(&at("volume"), "ro,nls=utf8,nodecompose", &look("stored"));
        assert_eq!(lost, "", "names as they are stored");
        // As people type them: what is not found is what this driver decomposes by an older table than macOS's.
        let lost = in_volume(&at("volume"), "ro,nls=utf8", &look("typed"));
        assert_eq!(by_block(&lost), OLDER_TABLE);
    }

    /// How many characters of each block of 256 the driver takes apart by an older table (Unicode 2's first one).
    const OLDER_TABLE: [(u32, u32); 14] = [
        (0x01, 3),
        (0x02, 30),
        (0x03, 33),
        (0x04, 25),
        (0x06, 16),
        (0x09, 2),
        (0x0A, 6),
        (0x0B, 2),
        (0x0D, 8),
        (0x0E, 4),
        (0x0F, 10),
        (0x10, 2),
        (0x1F, 90),
        (0xFB, 2),
    ];

    fn by_block(lost: &str) -> Vec<(u32, u32)> {
        let mut found: BTreeMap<u32, u32> = BTreeMap::new();
        for line in lost.lines() {
            let c = line.rsplit('x').next().and_then(|n| n.chars().next()).expect("a character");
            *found.entry(u32::from(c) >> 8).or_default() += 1;
        }
        found.into_iter().collect()
    }

    #[test]
    fn a_kernel_reads_every_byte_link_mode_and_attribute() {
        let folder = tempfile::tempdir().expect("a folder");
        let at = |name: &str| folder.path().join(name);
        let mut builder = Builder::new("Hives & Frames", options()).expect("a name");
        let bytes = [prose(1, 200_000), noise(2, 4096), Vec::new(), noise(3, 5_000_001)];
        builder.folder("journal", file(0o750)).expect("added");
        let first = builder.file("journal/first.comb", 200_000, file(0o644)).expect("added");
        builder.file("journal/run", 4096, file(0o755)).expect("added");
        builder.link("latest", "journal/first.comb", file(0o755)).expect("added");
        builder.link("Applications", "/Applications", file(0o755)).expect("added");
        builder.file("empty", 0, file(0o600)).expect("added");
        builder.file("big", 5_000_001, file(0o644)).expect("added");
        builder.attribute(first, "org.example.queen", b"seen").expect("added");
        builder.attribute(first, "org.example.long", &noise(4, 3802)).expect("added");
        let mut writer = builder.lay_out().expect("laid out").write(Vec::new()).expect("begun");
        bytes.iter().for_each(|b| writer.data(b).expect("written"));
        std::fs::write(at("volume"), writer.finish().expect("finished")).expect("written");
        let said = in_volume(
            &at("volume"),
            "ro",
            "for f in journal/first.comb journal/run empty big; do sha256sum $f; stat -c '%a %Y %s' $f; done\n\
             readlink latest Applications; stat -c %a journal; ls -A\n\
             getfattr -d -m - journal/first.comb | grep queen; getfattr --only-values -n osx.org.example.long journal/first.comb | sha256sum",
        );
        let sum = |bytes: &[u8]| {
            std::fs::write(at("one"), bytes).expect("written");
            let said = judge_says_yes("sha256sum", &[at("one").to_str().expect("text")]);
            said.split(' ').next().expect("a sum").to_owned()
        };
        let mut expected = String::new();
        let names = [("journal/first.comb", 644), ("journal/run", 755), ("empty", 600), ("big", 644)];
        for (bytes, (name, mode)) in [&bytes[0], &bytes[1], &bytes[2], &bytes[3]].into_iter().zip(names) {
            expected += &format!("{}  {name}\n{mode} {TIME} {}\n", sum(bytes), bytes.len());
        }
        expected += "journal/first.comb\n/Applications\n750\nApplications\nbig\nempty\njournal\nlatest\n";
        expected += &format!("osx.org.example.queen=\"seen\"\n{}  -\n", sum(&noise(4, 3802)));
        assert_eq!(said, expected);
    }

    #[test]
    fn a_kernel_writes_into_a_volume_of_ours_and_the_checker_agrees() {
        let files: Vec<(String, Vec<u8>)> =
            (0..3000).map(|n| (format!("{:02}/frame {n}.txt", n % 40), prose(n, n as usize % 9000))).collect();
        let folder = tempfile::tempdir().expect("a folder");
        let path = folder.path().join("volume");
        std::fs::write(&path, volume_of(&files, Options { free_blocks: 4000, ..options() })).expect("written");
        in_volume(
            &path,
            "rw",
            "rm -r 07 '11/frame 11.txt'; mkdir new; for n in $(seq 400); do echo $n > new/Ä$n; done\n\
             for n in $(seq 200); do head -c 9000 /dev/zero >> one; head -c 5000 /dev/zero | tr '\\0' x >> two; sync; done\n\
             rm 01/*; mv 02 new/moved; ln -s new link",
        );
        let volume = open(std::fs::read(&path).expect("read"));
        // This driver leaves the copy of the header as it was.
        assert_eq!(findings(&volume), ["the header and its copy at the end differ"]);
        let all: BTreeMap<String, Vec<u8>> = told(&volume).into_iter().collect();
        assert_eq!(all["new/A\u{308}400"], b"400\n");
        assert_eq!(all["two"], b"x".repeat(1_000_000));
        assert_eq!(all["new/moved/frame 2.txt"], files[2].1);
        assert!(!all.contains_key("07/frame 7.txt"));
        // Two files that grew side by side are in many pieces: more than a record has room for.
        let entries = volume.entries().expect("entries");
        let pieces = |name: &str| {
            let entry = entries.iter().find(|e| e.path == name).expect("there");
            volume.read(entry).expect("a file").pieces()
        };
        assert!(pieces("one") > 8 && pieces("two") > 8, "{} {}", pieces("one"), pieces("two"));
    }

    #[test]
    fn other_readers_agree() {
        let files = vec![("journal/first.comb".to_owned(), prose(1, 100_000)), ("Bienenstöcke 🐝".into(), noise(2, 7))];
        let folder = tempfile::tempdir().expect("a folder");
        let path = folder.path().join("volume");
        let mut builder = Builder::new("Hives", options()).expect("a name");
        builder.folder("journal", file(0o755)).expect("added");
        for (path, bytes) in &files {
            let cnid = builder.file(path, bytes.len() as u64, file(0o644)).expect("added");
            builder.attribute(cnid, "org.example.queen", b"seen").expect("added");
        }
        builder.link("Applications", "/Applications", file(0o755)).expect("added");
        let mut writer = builder.lay_out().expect("laid out").write(Vec::new()).expect("begun");
        files.iter().for_each(|(_, b)| writer.data(b).expect("written"));
        std::fs::write(&path, writer.finish().expect("finished")).expect("written");
        let path = path.to_str().expect("text");
        let listed = judge_says_yes("7zz", &["l", "-slt", path]);
        assert!(listed.contains("Type = HFS") && listed.contains("Size = 100000"), "{listed}");
        judge_says_yes("7zz", &["t", path]);
        let listed = judge_says_yes("fls", &["-r", "-p", path]);
        assert!(listed.contains("journal/first.comb"), "{listed}");
        let told = judge_says_yes("fsstat", &[path]);
        assert!(told.contains("Volume Name: Hives") && !told.contains("journaled"), "{told}");
        // Every byte, link and attribute once more; and names outside of the basic plane, which the driver lacks.
        let script = r#"
import sys, hashlib, pyfshfs
v = pyfshfs.volume(); v.open(sys.argv[1])
print(v.name)
def walk(e, path):
    for n in range(e.number_of_sub_file_entries):
        s = e.get_sub_file_entry(n); p = path + '/' + s.name
        data = s.read_buffer(s.size) if s.file_mode & 0o170000 == 0o100000 else b''
        names = [s.get_extended_attribute(i).name for i in range(s.number_of_extended_attributes)]
        print(p, oct(s.file_mode), s.size, hashlib.sha256(data).hexdigest()[:8], s.symbolic_link_target, names)
        walk(s, p)
walk(v.root_directory, '')
"#;
        let said = judge_says_yes(&test_support::python(), &["-c", script, path]);
        insta::assert_snapshot!(said, @r"
        Hives
        /Applications 0o120755 13 e3b0c442 /Applications []
        /Bienenstöcke 🐝 0o100644 7 ca2337a8 None ['org.example.queen']
        /journal 0o40755 0 e3b0c442 None []
        /journal/first.comb 0o100644 100000 d224fb6e None ['org.example.queen']
        ");
    }
}
