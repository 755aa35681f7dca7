//! Class files that a real compiler made, and the ones that are written here, which a real runtime runs.

use java_class::{Class, Method, Provides, Requires, Returns, read, simple};
use proptest::prelude::*;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::LazyLock;

const REPORT: &str = r#"
package works.fernhollow;

import java.util.List;
import java.util.logging.Logger;

public class Report implements Runnable {
    static final Logger LOG = Logger.getLogger("hives");
    List<java.time.LocalDate> days;
    long honey = 1L << 40;
    double wax = 0.5;

    public void run() {
        try {
            Class.forName("java.sql.DriverManager");
        } catch (ClassNotFoundException e) {
            LOG.warning("no store");
        }
        Runnable later = () -> System.out.println(new java.math.BigDecimal[2][3].length);
        later.run();
    }

    public static void main(String[] arguments) {
        new Report().run();
    }
}
"#;

const MODULE: &str = "
module works.fernhollow.report {
    requires java.logging;
    requires static java.sql;
    exports works.fernhollow;
    opens works.fernhollow to java.logging;
    uses java.nio.file.spi.FileSystemProvider;
    provides Runnable with works.fernhollow.Report;
}
";

/// Compiles a source for Java 11, and gives the folder of its classes.
fn compiled() -> &'static Path {
    static FOLDER: LazyLock<PathBuf> = LazyLock::new(|| {
        let folder = tempfile::tempdir().expect("a folder").keep();
        std::fs::write(folder.join("Report.java"), REPORT).expect("written");
        std::fs::write(folder.join("module-info.java"), MODULE).expect("written");
        let mut command = Command::new("javac");
        command.args(["--release", "11", "-d", "out", "Report.java", "module-info.java"]).current_dir(&folder);
        let out = command.output().expect("javac of openjdk-17-jdk-headless");
        assert!(out.status.success(), "{out:?}");
        folder
    });
    &FOLDER
}

fn bytes(name: &str) -> Vec<u8> {
    std::fs::read(compiled().join("out").join(name)).expect("compiled")
}

fn refers(class: &Class, name: &str) -> bool {
    class.classes.iter().any(|class| class == name)
}

#[test]
fn what_a_class_refers_to_is_found_wherever_it_stands() {
    let report = bytes("works/fernhollow/Report.class");
    let class = read(&report).expect("a class");
    assert_eq!((class.java, &*class.name, &class.module), (11, "works/fernhollow/Report", &None));
    for name in [
        "java/util/logging/Logger",
        "java/lang/Object",
        // In the signature of a field only.
        "java/time/LocalDate",
        // As the class of an array.
        "java/math/BigDecimal",
        "java/lang/ClassNotFoundException",
        // Only for what is started later.
        "java/lang/invoke/LambdaMetafactory",
    ] {
        assert!(refers(&class, name), "{name}: {:?}", class.classes);
    }
    assert!(!refers(&class, "java/sql/DriverManager"));
    assert!(class.texts.iter().any(|text| text == "java.sql.DriverManager"), "{:?}", class.texts);
}

#[test]
fn the_descriptor_of_a_module_says_what_it_needs() {
    let descriptor = bytes("module-info.class");
    let module = read(&descriptor).expect("a class").module.expect("a module");
    let requires = |module: &str, only_to_compile| Requires { module: module.into(), only_to_compile };
    assert_eq!(module.name, "works.fernhollow.report");
    assert_eq!(
        module.requires,
        [requires("java.base", false), requires("java.logging", false), requires("java.sql", true)]
    );
    assert_eq!(module.uses, ["java/nio/file/spi/FileSystemProvider"]);
    let provides = Provides { service: "java/lang/Runnable".into(), by: vec!["works/fernhollow/Report".into()] };
    assert_eq!(module.provides, [provides]);
}

#[test]
fn a_class_that_is_written_here_runs() {
    let folder = tempfile::tempdir().expect("a folder");
    let methods = [
        Method { name: "nothing", returned: "Ljava/lang/Object;", returns: Returns::Nothing },
        Method { name: "names", returned: "[Ljava/lang/String;", returns: Returns::EmptyArray("java/lang/String") },
    ];
    let bytes = simple("works/Empty", &methods);
    let class = read(&bytes).expect("a class");
    assert_eq!((class.java, &*class.name), (8, "works/Empty"));
    std::fs::create_dir(folder.path().join("works")).expect("a folder");
    std::fs::write(folder.path().join("works/Empty.class"), bytes).expect("written");
    let uses = "package works; public class Uses { public static void main(String[] a) {
        System.out.println(Empty.nothing() + \" \" + Empty.names().length); } }";
    std::fs::write(folder.path().join("works/Uses.java"), uses).expect("written");
    for command in [&["javac", "-cp", ".", "works/Uses.java"][..], &["java", "-Xverify:all", "-cp", ".", "works.Uses"]]
    {
        let out = Command::new(command[0]).args(&command[1..]).current_dir(folder.path()).output().expect("started");
        assert!(out.status.success(), "{out:?}");
        if command[0] == "java" {
            assert_eq!(String::from_utf8_lossy(&out.stdout), "null 0\n");
        }
    }
}

#[test]
fn what_is_no_class_is_told() {
    for (bytes, said) in [
        (&b""[..], "it ends too early"),
        (b"\xca\xfe\xba\xbf", "no class file"),
        (b"\xca\xfe\xba\xbe\0\0\0\x07\0\x01", "no Java with class files of version 7"),
        (b"\xca\xfe\xba\xbe\0\0\0\x37\0\x02\x02", "no constant of kind 2"),
        (b"\xca\xfe\xba\xbe\0\0\0\x37\0\x02\x01\xff\xff", "it ends too early"),
        (b"\xca\xfe\xba\xbe\0\0\0\x37\0\x01\0\0\0\x01", "the constant 1 is no class"),
    ] {
        let e = read(bytes).expect_err(said).to_string();
        assert!(e.contains(said), "{e}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn a_damaged_class_is_told_or_read_and_nothing_worse(at in 0usize..3000, byte: u8, end in 0usize..3000) {
        for name in ["works/fernhollow/Report.class", "module-info.class"] {
            let mut bytes = bytes(name);
            bytes.truncate(bytes.len().saturating_sub(end / 10).max(1));
            let at = at % bytes.len();
            bytes[at] = byte;
            let _ = read(&bytes);
        }
    }
}
