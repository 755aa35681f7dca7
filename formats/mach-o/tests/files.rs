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
            // Signed, it is read as well, or it is refused.
            if let Ok(Some(parts)) = mach_o::SignedParts::find(&bytes) {
                let all: Vec<(u64, Vec<u8>)> = parts.slices.iter().map(|_| (32, vec![7; 20])).collect();
                let signed = parts.signed(bytes.clone(), &all).expect("shorter than four gigabytes");
                let mut out = vec![0; signed.size() as usize];
                read_at::ReadAt::read_exact_at(&signed, &mut out, 0).expect("all of it is there");
                prop_assert!(mach_o::read(&out).is_ok());
            }
        }
    }

    #[test]
    fn a_signature_goes_where_the_linker_puts_one_and_is_of_the_same_pages() {
        use code_signature::{Blobs, Directory, page_hashes, slot};
        use mach_o::SignedParts;
        use read_at::ReadAt;
        let folder = tempfile::tempdir().expect("a folder");
        let plain = bytes(&program(folder.path(), "x86_64", "11.0"));
        let at = |name: &str| folder.path().join(name).to_str().expect("text").to_owned();
        let base = ["-arch", "x86_64", "-platform_version", "macos", "11.0", "14.2", "-adhoc_codesign", "-e", "_main"];
        let files = [at("libSystem.tbd"), at("main.o-x86_64"), at("libqueen.dylib-x86_64")];
        let rest = ["-rpath", "@executable_path/../Frameworks", "-headerpad", "0x100", "-o"];
        let out = at("sealed");
        let words: Vec<&str> =
            base.into_iter().chain(files.iter().map(String::as_str)).chain(rest).chain([out.as_str()]).collect();
        judge_says_yes("ld64.lld-19", &words);
        let sealed = bytes(Path::new(&out));
        let parts = SignedParts::find(&sealed).expect("read").expect("code");
        let signature = parts.slices[0].signature(&sealed).expect("read").expect("there");
        let blobs = Blobs::read(&signature).expect("a signature");
        let directory = Directory::read(blobs.part(slot::DIRECTORY).expect("there")).expect("a directory");
        assert_eq!(directory.limit, parts.slices[0].limit);
        let own = page_hashes(&sealed, directory.limit, directory.page_bits, directory.hash).expect("read");
        assert_eq!(own, directory.pages, "the linker's digests");
        // Put into a file that has none, or in another's place, the rest of the file is the same.
        let made = |file: &Vec<u8>, length: usize| {
            let parts = SignedParts::find(file).expect("read").expect("code");
            let place = mach_o::SignedSlice::place_for(length);
            let overlay = parts.signed(file.clone(), &[(place, vec![7; length])]).expect("room");
            let mut out = vec![0; overlay.size() as usize];
            overlay.read_exact_at(&mut out, 0).expect("read");
            out
        };
        let once = made(&plain, 1000);
        assert_eq!(once.len() as u64, (plain.len() as u64).next_multiple_of(16) + 1008);
        assert!(made(&made(&plain, 33), 1000) == once, "whatever was there before");
        let found = read(&once).expect("read").expect("code");
        assert_eq!(found.slices[0].signature, Some((plain.len().next_multiple_of(16) as u32, 1008)));
        let longer = [&plain[..], &[1; 16]].concat();
        assert!(matches!(SignedParts::find(&longer), Err(Error::Unsupported(_))), "something behind it");
    }
}
