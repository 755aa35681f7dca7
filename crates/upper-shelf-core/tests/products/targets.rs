//! Every format on every platform: what a package is called, what there is beside it, and what is said where there can't be
//! one. And packages of before, of others and of builds that were killed in the folder that packages are put into.

use crate::common::{Quiet, folder};
use std::collections::BTreeSet;
use std::fmt::Write as _;
use std::fs::{self, File};
use std::path::Path;
use upper_shelf_core::manifest::{self, Project};
use upper_shelf_core::packaging::{self, Built, Options};
use upper_shelf_core::platform::Platform;
use upper_shelf_core::problem::Code;
use upper_shelf_core::settings::TargetName;
use upper_shelf_core::{Failure, Kind};

/// A product that every format can hold.
const PLAIN: &str = r#"[targets]
build = ["appimage", "tar", "zip", "msi", "nsis", "portable", "dmg"]

[product]
id = "works.fernhollow.hives"
name = "Hives & Frames"
version = "1.4.0"
publisher = "Fernhollow Apiary Works"

[[layer]]
from = "built"

[[program]]
key = "app"
file = "hives"
"#;

const FORMATS: [TargetName; 7] = [
    TargetName::Appimage,
    TargetName::Tar,
    TargetName::Zip,
    TargetName::Msi,
    TargetName::Nsis,
    TargetName::Portable,
    TargetName::Dmg,
];

fn project(at: &Path, text: &str) -> Project {
    fs::write(at.join("shelf.toml"), text).unwrap();
    manifest::load(at, &|_| None).unwrap()
}

fn options(target: TargetName, platform: Platform) -> Options {
    Options {
        platforms: Some(vec![platform]),
        targets: Some(vec![target]),
        host: Platform::LinuxX64,
        epoch: None,
        output: None,
        keys_elsewhere: false,
    }
}

fn build(project: &Project, options: &Options, output: &Path, threads: usize) -> Result<Vec<Built>, Failure> {
    packaging::build(project, packaging::plan(project, options)?, output, threads, None, &Quiet)
}

#[test]
fn each_format_has_its_name_on_each_platform() {
    let folder = folder();
    let project = project(folder.path(), PLAIN);
    let mut all = String::new();
    let mut names = BTreeSet::new();
    for platform in Platform::ALL {
        let _ = writeln!(all, "{}", platform.name());
        for target in FORMATS {
            match packaging::plan(&project, &options(target, platform)) {
                Ok(plans) => {
                    for package in plans.iter().flat_map(|plan| &plan.packages) {
                        let _ = writeln!(all, "  {}", package.file_name);
                        assert!(names.insert(package.file_name.clone()), "two packages have one name");
                    }
                }
                Err(failure) => {
                    assert_eq!(
                        failure.problems[0].code,
                        Code::NothingToBuild,
                        "{} on {}",
                        target.name(),
                        platform.name()
                    );
                    assert!(!target.systems().contains(&platform.system()));
                }
            }
        }
    }
    insta::assert_snapshot!(all, @r#"
    windows-x64
      Hives-Frames-1.4.0-windows-x64.tar.gz
      Hives-Frames-1.4.0-windows-x64.zip
      Hives-Frames-1.4.0-windows-x64.msi
      Hives-Frames-1.4.0-windows-x64.exe
      Hives-Frames-1.4.0-windows-x64.portable.exe
    windows-x86
      Hives-Frames-1.4.0-windows-x86.tar.gz
      Hives-Frames-1.4.0-windows-x86.zip
      Hives-Frames-1.4.0-windows-x86.msi
      Hives-Frames-1.4.0-windows-x86.exe
      Hives-Frames-1.4.0-windows-x86.portable.exe
    windows-arm64
      Hives-Frames-1.4.0-windows-arm64.tar.gz
      Hives-Frames-1.4.0-windows-arm64.zip
      Hives-Frames-1.4.0-windows-arm64.msi
      Hives-Frames-1.4.0-windows-arm64.exe
      Hives-Frames-1.4.0-windows-arm64.portable.exe
    macos-arm64
      Hives-Frames-1.4.0-macos-arm64.tar.gz
      Hives-Frames-1.4.0-macos-arm64.zip
      Hives-Frames-1.4.0-macos-arm64.dmg
    macos-x64
      Hives-Frames-1.4.0-macos-x64.tar.gz
      Hives-Frames-1.4.0-macos-x64.zip
      Hives-Frames-1.4.0-macos-x64.dmg
    macos-universal
      Hives-Frames-1.4.0-macos-universal.tar.gz
      Hives-Frames-1.4.0-macos-universal.zip
      Hives-Frames-1.4.0-macos-universal.dmg
    linux-x64
      Hives-Frames-1.4.0-linux-x64.AppImage
      Hives-Frames-1.4.0-linux-x64.tar.gz
      Hives-Frames-1.4.0-linux-x64.zip
    linux-arm64
      Hives-Frames-1.4.0-linux-arm64.AppImage
      Hives-Frames-1.4.0-linux-arm64.tar.gz
      Hives-Frames-1.4.0-linux-arm64.zip
    "#);
}

#[test]
fn a_format_that_the_manifest_does_not_build_is_said_with_those_that_it_does() {
    let folder = folder();
    let said = |text: &str, target, platform| {
        let failure = packaging::plan(&project(folder.path(), text), &options(target, platform)).unwrap_err();
        let [problem] = &failure.problems[..] else { panic!("{failure}") };
        format!("{}\n{}\n{}", problem.what, problem.why.as_ref().unwrap(), problem.instead.as_ref().unwrap())
    };
    let usual = PLAIN.replace("build = ", "# build = ");
    insta::assert_snapshot!(said(&usual, TargetName::Tar, Platform::LinuxX64), @r#"
    there is nothing to build
    the manifest builds appimage, not tar
    [targets]
    build = ["appimage", "tar"]
    "#);
    insta::assert_snapshot!(said(PLAIN, TargetName::Msi, Platform::LinuxX64), @r#"
    there is nothing to build
    the manifest builds appimage, tar, zip, not msi
    [targets]
    build = ["appimage", "tar", "zip", "msi"]
    "#);
}

#[test]
fn neither_threads_nor_folders_nor_times_change_a_byte() {
    let (one, other) = (folder(), folder());
    // As another machine would have them: later, and readable by nobody else.
    for file in fs::read_dir(other.path().join("built")).unwrap() {
        let file = File::options().append(true).open(file.unwrap().path()).unwrap();
        file.set_modified(std::time::UNIX_EPOCH + std::time::Duration::from_secs(1_900_000_000)).unwrap();
    }
    for (target, platform) in [
        (TargetName::Appimage, Platform::LinuxArm64),
        (TargetName::Tar, Platform::LinuxX64),
        (TargetName::Zip, Platform::WindowsX86),
        (TargetName::Msi, Platform::WindowsX64),
        (TargetName::Nsis, Platform::WindowsArm64),
        (TargetName::Portable, Platform::WindowsX64),
        (TargetName::Dmg, Platform::MacosUniversal),
    ] {
        let built = |folder: &Path, threads| {
            let output = folder.join(format!("packages-{threads}"));
            let all = build(&project(folder, PLAIN), &options(target, platform), &output, threads);
            let all = all.unwrap_or_else(|failure| panic!("{}: {failure}", target.name()));
            all.iter().map(|built| fs::read(&built.file).unwrap()).collect::<Vec<_>>()
        };
        let first = built(one.path(), 1);
        assert!(!first.is_empty() && first == built(other.path(), 3), "{} differs", target.name());
    }
}

#[test]
fn a_build_that_is_under_way_is_waited_for_and_one_that_was_killed_is_cleared_away() {
    let folder = folder();
    let project = project(folder.path(), PLAIN);
    let output = folder.path().join("packages");
    let wanted = options(TargetName::Zip, Platform::LinuxX64);
    let built = build(&project, &wanted, &output, 1).unwrap();
    let package = fs::read(&built[0].file).unwrap();
    let name = built[0].file.file_name().unwrap().to_string_lossy().into_owned();
    let partial = output.join(format!(".{name}.upper-shelf-partial"));
    let of_another = output.join(".old-1.0.0.zip.upper-shelf-partial");
    let others = output.join(".notes.partial");
    for file in [&partial, &of_another, &others] {
        fs::write(file, "half a package").unwrap();
    }
    let lock = File::options().write(true).open(&partial).unwrap();
    lock.lock().unwrap();
    let failure = build(&project, &wanted, &output, 1).unwrap_err();
    assert_eq!(failure.kind, Kind::Busy);
    assert!(failure.to_string().contains(&format!("another build is writing {name}")), "{failure}");
    assert_eq!(fs::read_to_string(&partial).unwrap(), "half a package", "it is the other build's");
    assert_eq!(fs::read(&built[0].file).unwrap(), package, "the package of before is as it was");
    drop(lock);
    build(&project, &wanted, &output, 1).unwrap();
    assert!(!partial.exists() && !of_another.exists(), "nobody writes them any more");
    assert!(others.exists(), "what others left there is theirs");
    assert_eq!(fs::read(&built[0].file).unwrap(), package);
}

#[test]
fn cabinets_of_an_older_build_go_and_those_of_other_packages_stay() {
    let folder = folder();
    let output = folder.path().join("packages");
    let wanted = options(TargetName::Msi, Platform::WindowsX64);
    let external = format!("{PLAIN}\n[target.msi]\ncabinets = \"external\"\n");
    let built = build(&project(folder.path(), &external), &wanted, &output, 1).unwrap();
    let stem = built[0].file.file_stem().unwrap().to_string_lossy().into_owned();
    let cabinets = || -> BTreeSet<String> {
        let names = fs::read_dir(&output).unwrap().map(|entry| entry.unwrap().file_name());
        names.map(|name| name.to_string_lossy().into_owned()).filter(|name| name.ends_with(".cab")).collect()
    };
    assert_eq!(cabinets(), BTreeSet::from([format!("{stem}.1.cab")]));
    for other in [format!("{stem}.2.cab"), format!("{stem}.x.cab"), "other.1.cab".to_owned()] {
        fs::write(output.join(other), "a cabinet").unwrap();
    }
    build(&project(folder.path(), PLAIN), &wanted, &output, 1).unwrap();
    assert_eq!(cabinets(), BTreeSet::from([format!("{stem}.x.cab"), "other.1.cab".to_owned()]));
}

#[test]
fn a_file_that_changes_between_the_plan_and_the_build_stops_it_and_leaves_nothing() {
    for target in [TargetName::Appimage, TargetName::Tar, TargetName::Zip] {
        let folder = folder();
        let project = project(folder.path(), PLAIN);
        let output = folder.path().join("packages");
        let plans = packaging::plan(&project, &options(target, Platform::LinuxX64)).unwrap();
        fs::write(folder.path().join("built/hive.ttf"), "longer than it was when it was planned").unwrap();
        let failure = packaging::build(&project, plans, &output, 2, None, &Quiet).unwrap_err();
        assert_eq!(failure.kind, Kind::Machine, "{failure}");
        assert!(failure.to_string().contains("hive.ttf"), "{failure}");
        let left: Vec<_> =
            fs::read_dir(&output).into_iter().flatten().map(|entry| entry.unwrap().file_name()).collect();
        assert!(left.is_empty(), "{}: {left:?}", target.name());
    }
}
