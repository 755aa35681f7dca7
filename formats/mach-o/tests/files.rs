//! Real Mach-O files, made here by a general compiler, compared with what another reader says of them.

#[cfg(unix)]
mod with_a_compiler {
    use mach_o::{Error, FileKind, Library, Processor, Version, join, read};
    use proptest::prelude::*;
    use std::path::{Path, PathBuf};
    use test_support::judge_says_yes;

    /// What there is to know of the system's library, so that nothing of the system has to be here.
    const SYSTEM: &str = "--- !tapi-tbd\ntbd-version: 4\ntargets: [ x86_64-macos, arm64-macos ]\n\
        install-name: '/usr/lib/libSystem.B.dylib'\nexports:\n  - targets: [ x86_64-macos, arm64-macos ]\n    symbols: [ _puts, dyld_stub_binder ]\n...\n";

    /// A program for a processor, which loads a library of its own.
    fn program(folder: &Path, processor: &str, system: &str) -> PathBuf {
        let at = |name: &str| folder.join(name).to_str().expect("text").to_owned();
        std::fs::write(at("libSystem.tbd"), SYSTEM).expect("written");
        std::fs::write(
            at("main.c"),
            "int puts(const char*); int queen(void); int main(void) { puts(\"seen\"); return queen(); }",
        )
        .expect("written");
        std::fs::write(at("queen.c"), "int queen(void) { return 7; }").expect("written");
        let name = |n: &str| at(&format!("{n}-{processor}"));
        for source in ["main", "queen"] {
            let target = format!("{processor}-apple-macos{system}");
            judge_says_yes(
                "clang-19",
                &["-target", &target, "-c", &at(&format!("{source}.c")), "-o", &name(&format!("{source}.o"))],
            );
        }
        let link = |more: &[&str]| {
            let base = ["-arch", processor, "-platform_version", "macos", system, "14.2"];
            let system = at("libSystem.tbd");
            judge_says_yes("ld64.lld-19", &[&base[..], &[system.as_str()], more].concat());
        };
        link(&["-dylib", &name("queen.o"), "-install_name", "@rpath/libqueen.dylib", "-o", &name("libqueen.dylib")]);
        link(&[
            &name("main.o"),
            &name("libqueen.dylib"),
            "-e",
            "_main",
            "-rpath",
            "@executable_path/../Frameworks",
            "-headerpad",
            "0x100",
            "-o",
            &name("program"),
        ]);
        name("program").into()
    }

    fn bytes(path: &Path) -> Vec<u8> {
        std::fs::read(path).expect("read")
    }

    #[test]
    fn a_program_says_what_it_needs() {
        let folder = tempfile::tempdir().expect("a folder");
        for (processor, system, known) in [("x86_64", "10.13", Processor::X86_64), ("arm64", "11.0", Processor::ARM64)]
        {
            let path = program(folder.path(), processor, system);
            let file = read(&bytes(&path)).expect("read").expect("a Mach-O");
            let slice = &file.slices[0];
            assert!(!file.universal && slice.kind == FileKind::Program);
            assert_eq!(slice.processor.0, known.0);
            assert_eq!(slice.minimum_system.map(|v| v.to_string()).as_deref(), Some(system));
            assert_eq!(slice.sdk, Some(Version(14, 2, 0)));
            assert_eq!(slice.search_paths, ["@executable_path/../Frameworks"]);
            let library = |path: &str| Library { path: path.into(), optional: false };
            assert_eq!(slice.libraries, [library("/usr/lib/libSystem.B.dylib"), library("@rpath/libqueen.dylib")]);
            assert!(slice.room >= 0x100, "{}", slice.room);
            // Only programs for ARM are signed by the linker.
            let told = judge_says_yes("llvm-otool-19", &["-l", path.to_str().expect("text")]);
            let signature = told.split_once("LC_CODE_SIGNATURE").map(|(_, rest)| {
                let number =
                    |word: &str| rest.split_once(word).and_then(|(_, r)| r.split_whitespace().next()?.parse().ok());
                (number("dataoff").expect("a number"), number("datasize").expect("a number"))
            });
            assert_eq!(slice.signature, signature, "{processor}");
            let library = path.with_file_name(format!("libqueen.dylib-{processor}"));
            let file = read(&bytes(&library)).expect("read").expect("a Mach-O");
            assert_eq!(file.slices[0].own_path.as_deref(), Some("@rpath/libqueen.dylib"));
            assert_eq!(file.slices[0].kind, FileKind::Library);
        }
    }

    #[test]
    fn a_universal_file_is_the_same_as_another_tool_makes() {
        let folder = tempfile::tempdir().expect("a folder");
        let (intel, arm) = (program(folder.path(), "x86_64", "10.13"), program(folder.path(), "arm64", "11.0"));
        let theirs = folder.path().join("theirs");
        let text = |p: &Path| p.to_str().expect("text").to_owned();
        judge_says_yes("llvm-lipo-19", &["-create", &text(&arm), &text(&intel), "-output", &text(&theirs)]);
        let mut ours = Vec::new();
        join(&[bytes(&arm), bytes(&intel)], &mut ours).expect("joined");
        assert!(ours == bytes(&theirs));
        let file = read(&ours).expect("read").expect("a Mach-O");
        assert!(file.universal);
        assert_eq!(file.slices.iter().map(|s| s.processor.to_string()).collect::<Vec<_>>(), ["x86_64", "arm64"]);
        let again = join(&[bytes(&arm), ours], &mut Vec::new());
        assert!(matches!(again, Err(Error::Usage(why)) if why == "two files are for arm64"));
        assert!(matches!(join(&[b"no program".repeat(9)], &mut Vec::new()), Err(Error::Usage(_))));
    }

    #[test]
    fn a_class_of_java_is_no_universal_file() {
        let class = [&[0xCA, 0xFE, 0xBA, 0xBE, 0, 0, 0, 61][..], &[0; 100]].concat();
        assert_eq!(read(&class).expect("read"), None);
    }

    proptest! {
        #[test]
        fn damaged_files_give_data_or_an_error(places in proptest::collection::vec((0usize..2000, any::<u8>()), 1..6), cut in 0usize..60_000) {
            thread_local!(static GOOD: Vec<u8> = {
                let folder = tempfile::tempdir().expect("a folder");
                let (a, b) = (program(folder.path(), "x86_64", "10.13"), program(folder.path(), "arm64", "11.0"));
                let mut all = Vec::new();
                join(&[bytes(&a), bytes(&b)], &mut all).expect("joined");
                all
            });
            let mut bytes = GOOD.with(Clone::clone);
            for (n, (at, byte)) in places.into_iter().enumerate() {
                let from = [0, 4096, 16384][n % 3];
                bytes[from + at] = byte;
            }
            bytes.truncate(if cut < 40_000 { cut } else { usize::MAX });
            let _ = read(&bytes);
        }
    }
}
