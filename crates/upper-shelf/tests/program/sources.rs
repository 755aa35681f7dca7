//! What layers are made of and what lies elsewhere: fetched from servers that are slow, cut, lying or silent, kept, shared by
//! builds, cleared away.

use crate::common::{Folder, text};
use std::collections::HashMap;
use std::fmt::Write as _;
use std::io::{BufRead, BufReader, Write};
use std::net::{TcpListener, TcpStream};
use std::process::Stdio;
use std::sync::{Arc, Mutex};
use std::time::Duration;

/// How a server treats those who ask for a file.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Manner {
    Good,
    /// The first connections end after so many bytes.
    Cut(usize, usize),
    /// It knows no ranges.
    NoRanges,
    /// It says that there is more than there is.
    Boasting,
    Broken(u16),
    /// It sends those who ask elsewhere.
    Leading,
}

/// A server of files on loopback; what it was asked for, as lines of a request and its range.
struct Server {
    address: String,
    asked: Arc<Mutex<Vec<String>>>,
}

impl Server {
    fn of(files: &[(&str, Vec<u8>)], manner: Manner) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
        let address = format!("http://{}", listener.local_addr().expect("an address"));
        let files: HashMap<String, Vec<u8>> =
            files.iter().map(|(name, bytes)| (format!("/{name}"), bytes.clone())).collect();
        let asked: Arc<Mutex<Vec<String>>> = Arc::default();
        let heard = Arc::clone(&asked);
        std::thread::spawn(move || {
            for (n, stream) in listener.incoming().flatten().enumerate() {
                let _ = answer(stream, &files, manner, n, &heard);
            }
        });
        Self { address, asked }
    }

    fn asked(&self) -> Vec<String> {
        self.asked.lock().expect("no panic").clone()
    }
}

fn answer(
    mut stream: TcpStream,
    files: &HashMap<String, Vec<u8>>,
    manner: Manner,
    n: usize,
    heard: &Mutex<Vec<String>>,
) -> std::io::Result<()> {
    let (mut path, mut start) = (String::new(), 0);
    for line in BufReader::new(stream.try_clone()?).lines() {
        let line = line?;
        if let Some(rest) = line.strip_prefix("GET ") {
            path = rest.split(' ').next().unwrap_or_default().to_owned();
        } else if let Some(range) = line.to_lowercase().strip_prefix("range: bytes=") {
            start = range.trim_end_matches('-').parse().unwrap_or(0);
        } else if line.is_empty() {
            break;
        }
    }
    heard.lock().expect("no panic").push(format!("{path} from {start}"));
    let Some(bytes) = files.get(path.split('?').next().unwrap_or_default()) else {
        return stream.write_all(b"HTTP/1.1 404 Not Found\r\nContent-Length: 0\r\nConnection: close\r\n\r\n");
    };
    let (mut status, mut body) = ("200 OK".to_owned(), &bytes[..]);
    let mut more = String::new();
    if start > 0 && manner != Manner::NoRanges {
        status = "206 Partial Content".into();
        body = &bytes[start..];
        more = format!("Content-Range: bytes {start}-{}/{}\r\n", bytes.len() - 1, bytes.len());
    }
    let mut length = body.len();
    match manner {
        Manner::Cut(times, most) if n < times => body = &body[..most.min(body.len())],
        Manner::Boasting => length += 1000,
        Manner::Broken(code) => (status, body, length) = (format!("{code} Sorry"), &[], 0),
        Manner::Leading if !path.contains("there") => {
            (status, body, length) = ("302 Found".into(), &[], 0);
            more = format!("Location: {}-there\r\n", path);
        }
        _ => {}
    }
    let head = format!("HTTP/1.1 {status}\r\nContent-Length: {length}\r\n{more}Connection: close\r\n\r\n");
    stream.write_all(head.as_bytes())?;
    stream.write_all(body)?;
    stream.flush()?;
    std::thread::sleep(Duration::from_millis(20));
    Ok(())
}

fn sha256(bytes: &[u8]) -> String {
    signatures::Hash::Sha256.of(bytes).iter().map(|byte| format!("{byte:02x}")).collect()
}

/// A ZIP archive of files.
fn zip(files: &[(&str, &[u8])]) -> Vec<u8> {
    let mut zip = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    for (name, bytes) in files {
        let options = zip::write::SimpleFileOptions::default().unix_permissions(0o755);
        zip.start_file(*name, options).expect("begun");
        zip.write_all(bytes).expect("written");
    }
    zip.finish().expect("whole").into_inner()
}

/// A product made of a program of its own and of sources; `tables` are those, and the layers that use them.
fn product(tables: &str) -> Folder {
    let folder = Folder::least();
    let own = crate::common::LEAST.replace("[[program]]", &format!("{tables}\n[[program]]")).replace("appimage", "zip");
    folder.write("shelf.toml", own);
    folder
}

fn source(url: &str, sha256: &str, layer: &str) -> String {
    format!(
        "[[source]]\nkey = \"honey\"\nurl = \"{url}\"\nsha256 = \"{sha256}\"\n\n[[layer]]\nsource = \"honey\"\n{layer}\n"
    )
}

/// What of the least product's package comes from sources.
fn carried(folder: &Folder) -> Vec<String> {
    let _ = std::fs::remove_dir_all(folder.at("out"));
    folder.ok(&["extract", "packages/Least-1.0.0-linux-x64.zip", "out"]);
    let names = test_support::listing(&folder.at("out"));
    let names = names.into_iter().map(|line| line.split(' ').next().unwrap_or_default().to_owned());
    names.filter(|name| !name.ends_with('/') && name != "bin/least").collect()
}

#[test]
fn a_source_is_fetched_once_taken_apart_and_kept_for_every_build() {
    let archive =
        zip(&[("jar-1.0/lib/honey.so", b"honey"), ("jar-1.0/lib/wax.so", b"wax"), ("jar-1.0/notes.txt", b"notes")]);
    let server = Server::of(&[("jar.zip", archive.clone())], Manner::Good);
    let table = source(&format!("{}/jar.zip", server.address), &sha256(&archive), "from = \"lib\"\ninto = \"jar\"");
    let folder = product(&table);
    // Without a network the build says what it needs, and all of it.
    let (code, said) = folder.run(&["build", "--offline"]);
    insta::assert_snapshot!(format!("{code}\n{}", said.replace(&server.address, "SERVER").replace(&sha256(&archive), "SHA256")), @r#"
    1
    error: the source "honey" isn't in the cache
      --> ./shelf.toml:11:1
       |
    11 | [[source]]
       | ^^^^^^^^^^
       = why: it comes from SERVER/jar.zip
       = instead: `upper-shelf cache fetch` while there is a network

    1 error; nothing was written
    "#);
    let said = folder.ok(&["build"]);
    assert!(said.contains("fetching jar.zip"), "{said}");
    assert_eq!(carried(&folder), ["jar/honey.so", "jar/wax.so"]);
    // Nobody is asked again, by no build of any product.
    folder.ok(&["build", "--offline"]);
    let other = product(&table);
    let out = other.command(&["build", "--offline"]).env("XDG_CACHE_HOME", folder.cache()).output().expect("started");
    assert!(out.status.success(), "{}", text(&out));
    assert_eq!(carried(&other), ["jar/honey.so", "jar/wax.so"]);
    assert_eq!(server.asked(), ["/jar.zip from 0"]);
    let said = folder.ok(&["cache", "list"]);
    let shown = said.replace(&server.address, "SERVER").replace(&sha256(&archive)[..12], "SHA256");
    assert!(shown.contains("SERVER/jar.zip") && shown.contains("1 source, "), "{shown}");
    let said = folder.ok(&["cache", "clean", "--keep", "0"]);
    assert!(said.contains("1 source removed") && said.contains("kept 0 sources"), "{said}");
    assert_eq!(folder.run(&["build", "--offline"]).0, 1);
    let said = folder.ok(&["cache", "fetch"]);
    assert!(said.contains("honey: fetched"), "{said}");
    assert!(folder.ok(&["cache", "fetch"]).contains("honey: there already"));
    assert_eq!(server.asked().len(), 2);
}

#[test]
fn what_broke_off_goes_on_where_it_was_and_who_cannot_do_that_begins_again() {
    let archive = zip(&[("honey.txt", &test_support::noise(1, 400_000))]);
    for (manner, expected) in [
        (Manner::Cut(2, 150_000), vec!["/a.zip from 0", "/a.zip from 150000", "/a.zip from 300000"]),
        (Manner::NoRanges, vec!["/a.zip from 0"]),
        (Manner::Leading, vec!["/a.zip from 0", "/a.zip-there from 0"]),
    ] {
        let server = Server::of(&[("a.zip", archive.clone()), ("a.zip-there", archive.clone())], manner);
        let folder = product(&source(&format!("{}/a.zip", server.address), &sha256(&archive), "into = \"jar\""));
        folder.ok(&["build"]);
        assert_eq!(server.asked(), expected);
        assert_eq!(carried(&folder), ["jar/honey.txt"]);
    }
    // What a former build left is taken up by the next one, whole or in part.
    let first = Server::of(&[("a.zip", archive.clone())], Manner::Cut(99, 100_000));
    let folder = product(&source(&format!("{}/a.zip", first.address), &sha256(&archive), "into = \"jar\""));
    let part = folder.cache().join(format!("upper-shelf/sources/files/{}.part", sha256(&archive)));
    std::fs::create_dir_all(part.parent().expect("a folder")).expect("made");
    std::fs::write(&part, &archive[..390_000]).expect("written");
    folder.ok(&["build"]);
    assert_eq!(first.asked(), ["/a.zip from 390000"]);
    // It is of something else: all of it is fetched again.
    let good = Server::of(&[("a.zip", archive.clone())], Manner::Good);
    let folder = product(&source(&format!("{}/a.zip?token=wax", good.address), &sha256(&archive), "into = \"jar\""));
    let part = folder.cache().join(format!("upper-shelf/sources/files/{}.part", sha256(&archive)));
    std::fs::create_dir_all(part.parent().expect("a folder")).expect("made");
    std::fs::write(&part, test_support::noise(3, 1000)).expect("written");
    folder.ok(&["build"]);
    assert_eq!(good.asked(), ["/a.zip?token=wax from 1000", "/a.zip?token=wax from 0"]);
    assert_eq!(carried(&folder), ["jar/honey.txt"]);
    // What lets somebody in is kept to oneself.
    let said = folder.ok(&["cache", "list", "--json"]);
    assert!(said.contains("/a.zip?…") && !said.contains("wax"), "{said}");
}

#[test]
fn servers_that_lie_are_cut_or_have_nothing_are_told_and_nothing_is_built() {
    let archive = zip(&[("honey.txt", b"honey")]);
    let mut all = String::new();
    for (what, file, manner, sha) in [
        ("another file", "a.zip", Manner::Good, "00".repeat(32)),
        ("no such file", "b.zip", Manner::Good, sha256(&archive)),
        ("a server in trouble", "a.zip", Manner::Broken(503), sha256(&archive)),
        ("it asks for a password", "a.zip", Manner::Broken(401), sha256(&archive)),
        ("more is announced than comes", "a.zip", Manner::Boasting, sha256(&archive)),
    ] {
        let server = Server::of(&[("a.zip", archive.clone())], manner);
        let folder = product(&source(&format!("{}/{file}", server.address), &sha, ""));
        let (code, said) = folder.run(&["build"]);
        let said = said.replace(&server.address, "SERVER").replace(&sha256(&archive), "SHA256");
        let said =
            said.lines().filter(|line| !line.contains("-->") && !line.contains('|')).collect::<Vec<_>>().join("\n");
        let _ = writeln!(all, "== {what}: {code}, asked {}\n{said}\n", server.asked().len());
        assert!(!folder.at("packages").exists(), "{what}");
    }
    // Nobody listens there.
    let closed = TcpListener::bind("127.0.0.1:0").expect("a port").local_addr().expect("an address");
    let folder = product(&source(&format!("http://{closed}/a.zip"), &sha256(&archive), ""));
    let (code, said) = folder.run(&["plan"]);
    assert!(code == 3 && said.contains("tried 4 times"), "{code}: {said}");
    insta::assert_snapshot!(all, @r#"
    == another file: 1, asked 1
    fetching a.zip
    error: the source "honey" is not the file that the manifest means
       = why: its SHA-256 is SHA256, and not 0000000000000000000000000000000000000000000000000000000000000000
       = instead: find out who changed it; then state the new one

    1 error; nothing was written

    == no such file: 3, asked 1
    error: the source "honey" can't be fetched
       = why: SERVER/b.zip: the server answers 404 Not Found
       = instead: correct `url`


    == a server in trouble: 3, asked 4
    error: the source "honey" can't be fetched
       = why: SERVER/a.zip: the server answers 503 Service Unavailable; tried 4 times
       = instead: try again later: what is there already is not fetched again


    == it asks for a password: 3, asked 1
    error: the source "honey" can't be fetched
       = why: SERVER/a.zip: the server answers 401 Unauthorized
       = instead: correct `url`


    == more is announced than comes: 3, asked 4
    fetching a.zip
    error: the source "honey" can't be fetched
       = why: SERVER/a.zip: the connection broke after 123 bytes: Peer disconnected; tried 4 times
       = instead: try again later: what is there already is not fetched again
    "#);
}

#[test]
fn archives_of_every_kind_and_files_that_are_none_become_layers() {
    let folder = product(
        "[[source]]\nkey = \"wheel\"\nfile = \"got/a-1.0-py3-none-any.whl\"\n\n[[source]]\nkey = \"module\"\nfile = \"got/java.base.jmod\"\n\n\
         [[source]]\nkey = \"tarball\"\nfile = \"got/t.tar.gz\"\n\n[[source]]\nkey = \"plain\"\nurl = \"file://PLAIN\"\nsha256 = \"SUM\"\n\n\
         [[layer]]\nsource = \"wheel\"\ninto = \"w\"\n[[layer]]\nsource = \"module\"\nfrom = \"classes\"\ninto = \"m\"\n\
         [[layer]]\nsource = \"tarball\"\ninto = \"t\"\ndrop = [\"*.pdb\"]\n[[layer]]\nsource = \"plain\"\ninto = \"p\"\n",
    );
    folder
        .write("got/a-1.0-py3-none-any.whl", zip(&[("a/__init__.py", b"1"), ("a-1.0.dist-info/METADATA", b"Name: a")]));
    let inside = zip(&[("classes/module-info.class", b"class"), ("bin/java", b"java")]);
    folder.write("got/java.base.jmod", [b"JM\x01\x00", &inside[..]].concat());
    folder.write("got/t-1.0/bin/tool", "tool").write("got/t-1.0/tool.pdb", "debug").write("got/plain.dat", "plain");
    let at = |path: &str| folder.at(path).to_string_lossy().into_owned();
    test_support::judge_says_yes("tar", &["-czf", &at("got/t.tar.gz"), "-C", &at("got"), "t-1.0"]);
    let manifest = std::fs::read_to_string(folder.at("shelf.toml")).expect("read");
    let manifest = manifest.replace("PLAIN", &at("got/plain.dat")).replace("SUM", &sha256(b"plain"));
    folder.write("shelf.toml", manifest);
    folder.ok(&["build"]);
    assert_eq!(
        carried(&folder),
        ["m/module-info.class", "p/plain.dat", "t/bin/tool", "w/a-1.0.dist-info/METADATA", "w/a/__init__.py"]
    );
    // A file on this machine is what it is now.
    folder.write("got/a-1.0-py3-none-any.whl", zip(&[("a/__init__.py", b"2"), ("b/__init__.py", b"2")]));
    folder.ok(&["build"]);
    assert!(carried(&folder).contains(&"w/b/__init__.py".to_owned()));
}

#[test]
fn hostile_and_damaged_archives_are_refused_and_leave_nothing() {
    let good = zip(&[("honey.txt", &test_support::noise(5, 100_000))]);
    let mut flipped = good.clone();
    flipped[50_000] ^= 1;
    for (what, archive, told) in [
        ("it leads outside", zip(&[("../../honey.txt", b"honey")]), "../../honey.txt"),
        ("it was cut", good[..60_000].to_vec(), "damaged"),
        ("a bit is flipped", flipped, "damaged"),
    ] {
        let server = Server::of(&[("a.zip", archive.clone())], Manner::Good);
        let folder = product(&source(&format!("{}/a.zip", server.address), &sha256(&archive), "into = \"jar\""));
        let (code, said) = folder.run(&["build"]);
        assert!(code != 0 && said.contains(told), "{what}: {code} {said}");
        let folders = folder.cache().join("upper-shelf/sources/folders");
        let left: Vec<_> = std::fs::read_dir(folders).expect("a folder").flatten().map(|e| e.file_name()).collect();
        assert!(left.is_empty(), "{what}: {left:?}");
        assert!(!folder.at("packages").exists());
    }
}

#[test]
fn builds_at_the_same_time_fetch_once() {
    let archive = zip(&[("honey.txt", &test_support::noise(1, 3_000_000))]);
    let server = Server::of(&[("a.zip", archive.clone())], Manner::Good);
    let table = source(&format!("{}/a.zip", server.address), &sha256(&archive), "into = \"jar\"");
    let folders = [product(&table), product(&table), product(&table)];
    let running: Vec<_> = folders
        .iter()
        .map(|folder| {
            let mut command = folder.command(&["build"]);
            command.env("XDG_CACHE_HOME", folders[0].cache()).stdout(Stdio::null()).stderr(Stdio::null());
            command.spawn().expect("started")
        })
        .collect();
    for mut child in running {
        assert!(child.wait().expect("ended").success());
    }
    assert_eq!(server.asked(), ["/a.zip from 0"]);
    assert!(folders.iter().all(|folder| carried(folder) == ["jar/honey.txt"]));
}

#[test]
fn what_is_used_least_goes_first() {
    let files: Vec<(String, Vec<u8>)> = (0..3).map(|n| (format!("{n}.dat"), test_support::noise(n, 100_000))).collect();
    let named: Vec<(&str, Vec<u8>)> = files.iter().map(|(name, bytes)| (name.as_str(), bytes.clone())).collect();
    let server = Server::of(&named, Manner::Good);
    let manifest = |n: usize| {
        let (name, bytes) = &files[n];
        source(&format!("{}/{name}", server.address), &sha256(bytes), "into = \"jar\"")
    };
    let folder = product(&manifest(0));
    let all = product("");
    for n in [0, 1, 2, 0] {
        let own = product(&manifest(n));
        let out = own.command(&["plan"]).env("XDG_CACHE_HOME", all.cache()).output().expect("started");
        assert!(out.status.success(), "{}", text(&out));
        std::thread::sleep(Duration::from_millis(30));
    }
    drop(folder);
    // Each has its file and its folder: room for two.
    let said = all.ok(&["cache", "clean", "--keep", "450kB"]);
    assert!(said.contains("1 source removed") && said.contains("kept 2 sources"), "{said}");
    let said = all.ok(&["cache", "list"]);
    let left: Vec<bool> = (0..3).map(|n| said.contains(&format!("/{n}.dat"))).collect();
    assert_eq!(left, [true, false, true], "{said}");
    assert_eq!(all.run(&["cache", "clean", "--keep", "much"]).0, 2);
}

#[test]
fn what_a_manifest_says_wrong_of_sources_is_told() {
    let mut all = String::new();
    for (what, table) in [
        ("no such source", "[[source]]\nkey = \"honey\"\nfile = \"a\"\n[[layer]]\nsource = \"honye\"\n"),
        ("no origin", "[[source]]\nkey = \"honey\"\n[[layer]]\nsource = \"honey\"\n"),
        (
            "two origins",
            "[[source]]\nkey = \"honey\"\nfile = \"a\"\nurl = \"https://a.example/a\"\n[[layer]]\nsource = \"honey\"\n",
        ),
        ("no digest", "[[source]]\nkey = \"honey\"\nurl = \"https://a.example/a\"\n[[layer]]\nsource = \"honey\"\n"),
        (
            "a short digest",
            "[[source]]\nkey = \"honey\"\nurl = \"https://a.example/a\"\nsha256 = \"0f\"\n[[layer]]\nsource = \"honey\"\n",
        ),
        ("another scheme", "[[source]]\nkey = \"honey\"\nurl = \"ftp://a.example/a\"\n[[layer]]\nsource = \"honey\"\n"),
        (
            "twins",
            "[[source]]\nkey = \"honey\"\nfile = \"a\"\n[[source]]\nkey = \"honey\"\nfile = \"b\"\n[[layer]]\nsource = \"honey\"\n",
        ),
        ("a layer of nothing", "[[layer]]\ninto = \"a\"\n"),
        (
            "outside",
            "[[source]]\nkey = \"honey\"\nfile = \"shelf.toml\"\n[[layer]]\nsource = \"honey\"\nfrom = \"../..\"\n",
        ),
        ("a file that is missing", "[[source]]\nkey = \"honey\"\nfile = \"gone.zip\"\n[[layer]]\nsource = \"honey\"\n"),
        (
            "a folder that is not in it",
            "[[source]]\nkey = \"honey\"\nfile = \"shelf.toml\"\n[[layer]]\nsource = \"honey\"\nfrom = \"lib\"\n",
        ),
    ] {
        let folder = product(table);
        let (code, said) = folder.run(&["check"]);
        let said = said.replace(&*folder.cache().to_string_lossy(), "CACHE");
        let plain = |line: &str| !line.trim_start().starts_with('|') && !line.contains("nothing was written");
        let said = said.lines().filter(|line| plain(line) && !line.is_empty()).collect::<Vec<_>>().join("\n");
        let _ = writeln!(all, "== {what}: {code}\n{said}\n");
    }
    insta::assert_snapshot!(all, @r#"
    == no such source: 1
    error: there is no source "honye"
      --> ./shelf.toml:15:10
    15 | source = "honye"
       = instead: source = "honey"

    == no origin: 1
    error: the source "honey" names no file and no address for linux-x64
      --> ./shelf.toml:12:7
    12 | key = "honey"
       = instead: url = "https://…", or file = "…"

    == two origins: 1
    error: the source "honey" has two origins
      --> ./shelf.toml:13:8
    13 | file = "a"
       = why: `url` is the other one
       = instead: one of the two

    == no digest: 1
    error: the source "honey" has no SHA-256 for linux-x64
      --> ./shelf.toml:13:7
    13 | url = "https://a.example/a"
       = why: what is fetched is used only if it is the very file that is meant
       = instead: sha256 = "…"

    == a short digest: 1
    error: "0f" is not a SHA-256
      --> ./shelf.toml:14:10
    14 | sha256 = "0f"
       = why: it has 64 hexadecimal digits
       = instead: what `sha256sum FILE` prints

    == another scheme: 1
    error: "ftp://a.example/a" is not an address of a file
      --> ./shelf.toml:13:7
    13 | url = "ftp://a.example/a"
       = instead: "https://…"; or file = "…" for a file on this machine

    == twins: 1
    error: two sources have the key "honey"
      --> ./shelf.toml:15:7
    15 | key = "honey"
       = instead: another key

    == a layer of nothing: 1
    error: a [[layer]] names no files
      --> ./shelf.toml:11:1
    11 | [[layer]]
       = instead: from = "a folder", or source = "the key of a [[source]]"

    == outside: 1
    error: "../.." is no folder in a source
      --> ./shelf.toml:16:8
    16 | from = "../.."
       = why: it must lie inside of what the source is unpacked to
       = instead: from = "lib"

    == a file that is missing: 3
    error: can't read ./gone.zip
      --> ./shelf.toml:11:1
    11 | [[source]]
       = why: it doesn't exist

    == a folder that is not in it: 1
    error: the layer honey/lib can't be read
      --> ./shelf.toml:16:8
    16 | from = "lib"
       = why: there is no such folder or file
       = instead: correct `from`: a folder that the source has
    "#);
}
