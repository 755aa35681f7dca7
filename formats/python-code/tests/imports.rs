//! What Python itself says of imports is what is found, in all of its own library.

use proptest::prelude::*;
use python_code::{Compiled, Import, When, in_source, unchecked};
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::process::Command;

/// Says for each source what it imports, by Python's own reader of sources; and compiles it beside.
const JUDGE: &str = r#"
import ast, json, os, py_compile, sys
def walk(node, once, out):
    for child in ast.iter_child_nodes(node):
        inner = once and not isinstance(child, (ast.FunctionDef, ast.AsyncFunctionDef, ast.Lambda))
        if isinstance(child, ast.Import):
            out += [(a.name, 0, [], once) for a in child.names]
        elif isinstance(child, ast.ImportFrom):
            out.append((child.module or '', child.level, [a.name for a in child.names], once))
        walk(child, inner, out)
count = 0
for folder, _, names in os.walk(sys.argv[1]):
    if 'bad' in folder or 'lib2to3' in folder: continue
    for name in sorted(names):
        if not name.endswith('.py') or name.startswith('bad') or count >= int(sys.argv[3]): continue
        path = os.path.join(folder, name)
        try: text = open(path, encoding='utf-8').read(); tree = ast.parse(text)
        except Exception: continue
        out = []; walk(tree, True, out); count += 1
        to = os.path.join(sys.argv[2], str(count) + '.pyc')
        py_compile.compile(path, to, doraise=True)
        print(json.dumps([path, to, out]))
"#;

type Plain = BTreeSet<(String, u32, Vec<String>, bool)>;

fn plain(imports: &[Import]) -> Plain {
    imports.iter().map(|i| (i.module.clone(), i.level, i.names.clone(), i.when != When::Called)).collect()
}

/// A line that the judge prints: a source, where it was compiled to, what it imports.
fn line(text: &str) -> (PathBuf, PathBuf, Plain) {
    let (path, compiled, all): (PathBuf, PathBuf, Vec<_>) = serde_json::from_str(text).expect("JSON");
    (path, compiled, all.into_iter().collect())
}

#[test]
fn what_python_itself_reads_out_of_its_library_is_found_in_sources_and_compiled_modules() {
    let folder = tempfile::tempdir().expect("a folder");
    let out = Command::new("/usr/bin/python3.11")
        .args(["-c", JUDGE, "/usr/lib/python3.11", folder.path().to_str().expect("text"), "300"])
        .output()
        .expect("python3");
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    let (mut count, mut imports) = (0, 0);
    for text in String::from_utf8(out.stdout).expect("text").lines() {
        let (path, compiled, expected) = line(text);
        let source = std::fs::read_to_string(&path).expect("read");
        let by_function = |i: &&Import| {
            !source.contains(&format!("(\"{}\"", i.module)) && !source.contains(&format!("('{}'", i.module))
        };
        let found = in_source(&source);
        let found: Vec<Import> = found.iter().filter(by_function).cloned().collect();
        let wanted: Plain = expected.iter().filter(|e| plain(&found).contains(*e)).cloned().collect();
        let missing: Vec<_> =
            expected.difference(&wanted).filter(|e| !plain(&in_source(&source)).contains(*e)).collect();
        assert!(missing.is_empty(), "{}: {missing:?}", path.display());
        let more: Vec<_> = plain(&found).difference(&expected).cloned().collect();
        assert!(more.is_empty(), "{}: {more:?}", path.display());
        let read = Compiled::read(&std::fs::read(&compiled).expect("compiled")).expect("read");
        assert_eq!(read.minor, 11);
        // What can never run is not compiled.
        let more: Vec<_> = plain(&read.imports).difference(&expected).cloned().collect();
        assert!(more.is_empty(), "{}: {more:?}", path.display());
        (count, imports) = (count + 1, imports + read.imports.len());
    }
    assert!(count > 200 && imports > 800, "{count} {imports}");
}

#[test]
fn imports_stand_wherever_python_lets_them() {
    let source = "
import os, sys as system, xml.dom
from . import bees
from ..hives.frames import (wax,  # with words
    honey as sweet)
from x import *
if True: import a; import b
text = 'import not_this' + \"\"\"
import nor_this
\"\"\"
raw = r'\\\\'; import after
long = 1 + \\
    2; import behind
def work():
    import later
    class Inner:
        import inner
class Hive:
    import at_once
    async def open(self): import opened
try:
    import c
except ImportError: d = importlib.import_module('named')
e = {'a': 1}; __import__(\"other.named\")
x = importlib.import_module(name); y = import_module('.relative')
";
    let found: Vec<String> = in_source(source)
        .iter()
        .map(|i| {
            format!(
                "{}{} {}{}",
                ".".repeat(i.level as usize),
                i.module,
                i.names.join("+"),
                match i.when {
                    When::Always => "",
                    When::AtOnce => " perhaps",
                    When::Called => " later",
                }
            )
        })
        .collect();
    assert_eq!(
        found,
        [
            "os ",
            "sys ",
            "xml.dom ",
            ". bees",
            "..hives.frames wax+honey",
            "x *",
            "a  perhaps",
            "b  perhaps",
            "after  perhaps",
            "behind  perhaps",
            "later  later",
            "inner  later",
            "at_once  perhaps",
            "opened  later",
            "c  perhaps",
            "named  perhaps",
            "other.named  perhaps",
        ]
    );
}

#[test]
fn relative_imports_mean_modules_beside() {
    let import = |module: &str, level, names: &[&str]| Import {
        module: module.into(),
        level,
        names: names.iter().map(|n| (*n).to_owned()).collect(),
        when: When::Always,
    };
    assert_eq!(import("os.path", 0, &["join"]).means("a.b", false), ["os.path", "os.path.join"]);
    assert_eq!(import("", 1, &["bees"]).means("hives.frames", false), ["hives", "hives.bees"]);
    assert_eq!(import("", 1, &["bees"]).means("hives", true), ["hives", "hives.bees"]);
    assert_eq!(import("wax", 2, &["*"]).means("hives.frames.comb", false), ["hives.wax"]);
    assert_eq!(import("wax", 9, &[]).means("hives", false), ["wax"]);
}

fn compiled() -> Vec<u8> {
    let folder = tempfile::tempdir().expect("a folder");
    let at = |name: &str| folder.path().join(name);
    std::fs::write(at("a.py"), "import os\ndef f():\n    from .x import y\n").expect("written");
    let program = "import py_compile, sys; py_compile.compile(sys.argv[1], sys.argv[2])";
    let status = Command::new("/usr/bin/python3.11").args(["-c", program]).arg(at("a.py")).arg(at("a.pyc")).status();
    assert!(status.expect("python3").success());
    std::fs::read(at("a.pyc")).expect("compiled")
}

#[test]
fn a_compiled_module_is_taken_as_it_is_whatever_its_source_says() {
    let folder = tempfile::tempdir().expect("a folder");
    let made = unchecked(&compiled()).expect("a compiled module");
    assert_eq!(unchecked(&made).as_deref(), Some(&made[..]));
    assert_eq!(Compiled::read(&made).expect("read").imports.len(), 2);
    let cache = folder.path().join("__pycache__");
    std::fs::create_dir(&cache).expect("made");
    std::fs::write(folder.path().join("a.py"), "import never_there").expect("written");
    std::fs::write(cache.join("a.cpython-311.pyc"), made).expect("written");
    let status =
        Command::new("/usr/bin/python3.11").args(["-B", "-c", "import a; a.f"]).current_dir(folder.path()).status();
    assert!(status.expect("python3").success());
    assert_eq!(unchecked(b"no compiled module"), None);
}

#[test]
fn what_is_no_compiled_module_is_told() {
    let whole = compiled();
    let with = |at: usize, byte: u8| {
        let mut bytes = whole.clone();
        bytes[at] = byte;
        bytes
    };
    for (bytes, said) in [
        (Vec::new(), "it ends too early"),
        (vec![7; 40], "no compiled module"),
        (with(1, 3), "of another Python than 3.8 to 3.13"),
        (with(16, b'N'), "it holds no code"),
        (with(16, b'?'), "no kind of object '?'"),
        (whole[..whole.len() / 2].to_vec(), "it ends too early"),
    ] {
        let e = Compiled::read(&bytes).expect_err(said).to_string();
        assert!(e.contains(said), "{e}");
    }
    // Objects in objects without end.
    let deep = [&whole[..16], &[b'('; 3000]].concat();
    assert!(Compiled::read(&deep).is_err());
    assert!(!Path::new("a.pyc").exists());
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn damaged_code_is_told_or_read_and_nothing_worse(at in 0usize..4000, byte: u8, end in 0usize..400) {
        static WHOLE: std::sync::LazyLock<Vec<u8>> = std::sync::LazyLock::new(compiled);
        let mut bytes = WHOLE.clone();
        bytes.truncate(bytes.len() - end.min(bytes.len() - 1) / 4);
        let at = at % bytes.len();
        bytes[at] = byte;
        let _ = Compiled::read(&bytes);
    }

    #[test]
    fn any_text_is_taken_for_a_source(text in "(import |from |\\.|as |def |[a-z\"'#\\\\();: \\n\\t]){0,60}") {
        let _ = in_source(&text);
    }
}
