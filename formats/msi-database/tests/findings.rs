//! What Windows insists on and other readers let pass: each rule is broken once, and the finding names table, row and column.

mod common;

use common::{CODE, OTHER, least_without, read, written};
use msi_database::Result;
use msi_database::database::Database;
use msi_database::rows::{
    Component, CustomAction, Directory, FeatureComponents, File, InstallExecuteSequence, InstallUISequence, Media,
    MsiFileHash, Property as Row, RemoveFile, Shortcut, Upgrade,
};
use msi_database::summary::{self, Property};

/// What is done to the least database: the name of what is left out, and what is added.
type Change = (&'static str, &'static str, fn(&mut Database) -> Result<()>);

fn nothing(_: &mut Database) -> Result<()> {
    Ok(())
}

/// What is found of each change, below what is done.
fn found(changes: &[Change]) -> String {
    let mut out = String::new();
    for (what, without, change) in changes {
        let mut db = least_without(without);
        change(&mut db).expect("changed");
        db.validate_all().expect("validated");
        let (_, findings) = read(&written(db, &[])).expect("read");
        out.push_str(&format!("{what}\n"));
        findings.iter().for_each(|finding| out.push_str(&format!("  {finding}\n")));
        assert!(!findings.is_empty(), "{what}: nothing is found");
    }
    out
}

#[test]
fn properties_have_their_form() {
    insta::assert_snapshot!(found(&[
        ("no manufacturer", "Manufacturer", nothing),
        ("no version", "ProductVersion", nothing),
        ("a version that can't be compared", "ProductVersion", |db| {
            db.add(&Row { property: "ProductVersion", value: "1.256.3" })
        }),
        ("a language in letters", "ProductLanguage", |db| db.add(&Row { property: "ProductLanguage", value: "en" })),
        ("a code in lower case", "", |db| {
            db.add(&Row { property: "UpgradeCode", value: "{01234567-89ab-cdef-0123-456789abcdef}" })
        }),
        ("the same property twice", "", |db| db.add(&Row { property: "ProductName", value: "Hives" })),
        ("a name with a blank", "", |db| db.add(&Row { property: "a b", value: "c" })),
        ("a property of Upgrade that is not secure", "", |db| {
            db.add(&Upgrade {
                upgrade_code: CODE,
                version_min: "1.0.0",
                attributes: 0,
                action_property: "OLDER",
                ..Upgrade::default()
            })
        }),
    ]), @r#"
    no manufacturer
      the property Manufacturer is missing
    no version
      the property ProductVersion is missing
      the version "" can't be compared
    a version that can't be compared
      the version "1.256.3" can't be compared
    a language in letters
      the property ProductLanguage isn't a number
    a code in lower case
      the property UpgradeCode isn't an upper-case GUID
    the same property twice
      the rows of Property aren't sorted by key, or two have the same key
    a name with a blank
      Property, row "a b": Property is "a b", which is not in the form of Identifier
    a property of Upgrade that is not secure
      SecureCustomProperties doesn't list OLDER
      Upgrade has rows, but InstallExecuteSequence doesn't have FindRelatedProducts
    "#);
}

#[test]
fn the_summary_says_what_the_package_needs() {
    fn text(db: &mut Database, id: u32, text: &str) -> Result<()> {
        db.summary.properties.insert(id, Property::Text(text.into()));
        Ok(())
    }
    insta::assert_snapshot!(found(&[
        ("a template without a language", "", |db| text(db, summary::TEMPLATE, "x64")),
        ("a package code in lower case", "", |db| text(db, summary::REVISION, "{0123}")),
        ("no version of the installer", "", |db| {
            db.summary.properties.remove(&summary::PAGE_COUNT);
            Ok(())
        }),
        ("a version that knows no x64", "", |db| {
            db.summary.properties.insert(summary::PAGE_COUNT, Property::Long(110));
            Ok(())
        }),
        ("a version that knows no Arm64", "", |db| text(db, summary::TEMPLATE, "Arm64;1033")),
        ("nothing of compression", "", |db| {
            db.summary.properties.remove(&summary::WORD_COUNT);
            Ok(())
        }),
        ("another code page than the texts'", "", |db| {
            db.summary.properties.insert(summary::CODE_PAGE, Property::Short(1252));
            Ok(())
        }),
        ("64-bit components for a 32-bit processor", "", |db| text(db, summary::TEMPLATE, "Intel;1033")),
    ]), @r#"
    a template without a language
      the summary's template "x64" names no processor and language
    a package code in lower case
      the summary has no upper-case package code
    no version of the installer
      the summary doesn't state the required version of Windows Installer
    a version that knows no x64
      a package for x64 needs Windows Installer 2.0 (200)
    a version that knows no Arm64
      a package for Arm64 needs Windows Installer 5.0 (500)
    nothing of compression
      the summary doesn't state whether files are compressed
    another code page than the texts'
      the summary's code page 1252 is not the strings' 65001
    64-bit components for a 32-bit processor
      Component, row "CHive": 64-bit, in a package for Intel
    "#);
}

#[test]
fn rows_refer_to_rows_that_are_there() {
    insta::assert_snapshot!(found(&[
        ("a folder in no folder", "", |db| {
            db.add(&Directory { directory: "BELOW", directory_parent: "NOWHERE", default_dir: "a" })
        }),
        ("a short name that is too long", "", |db| {
            db.add(&Directory { directory: "BELOW", directory_parent: "HIVES", default_dir: "MUCHTOOLONG|a" })
        }),
        ("a shortcut of no component", "", |db| {
            db.add(&Shortcut {
                shortcut: "S",
                directory: "HIVES",
                name: "Hive",
                component: "CNone",
                target: "[#FHive]",
                ..Shortcut::default()
            })
        }),
        ("files to remove of a mode that isn't", "", |db| {
            db.add(&RemoveFile {
                file_key: "R",
                component: "CHive",
                file_name: "a.txt",
                dir_property: "HIVES",
                install_mode: 7,
            })
        }),
    ]), @r#"
    a folder in no folder
      Directory, row "BELOW": Directory_Parent refers to "NOWHERE", which Directory doesn't have
    a short name that is too long
      Directory, row "BELOW": DefaultDir is "MUCHTOOLONG|a", which is not in the form of DefaultDir
    a shortcut of no component
      Shortcut, row "S": Component_ refers to "CNone", which Component doesn't have
      Shortcut has rows, but InstallExecuteSequence doesn't have CreateShortcuts
    files to remove of a mode that isn't
      RemoveFile, row "R": InstallMode is 7, which is not allowed there
    "#);
}

#[test]
fn actions_are_known_and_come_in_order() {
    insta::assert_snapshot!(found(&[
        ("an action of no table", "", |db| {
            db.add(&InstallExecuteSequence { action: "Fly", condition: "", sequence: Some(77) })
        }),
        ("no action for the files", "InstallFiles", nothing),
        ("no action that ends it", "InstallFinalize", nothing),
        ("costs at the end", "CostFinalize", |db| {
            db.add(&InstallExecuteSequence { action: "CostFinalize", condition: "", sequence: Some(9000) })
        }),
        ("an action of its own without a place", "", |db| {
            let own = CustomAction { action: "Own", kind: 51, source: "A", target: "b", ..CustomAction::default() };
            db.add(&own)?;
            db.add(&InstallUISequence { action: "Owm", condition: "", sequence: Some(10) })
        }),
        ("shortcuts that nothing makes", "", |db| {
            db.add(&Shortcut {
                shortcut: "S",
                directory: "HIVES",
                name: "Hive",
                component: "CHive",
                target: "[#FHive]",
                ..Shortcut::default()
            })
        }),
    ]), @r#"
    an action of no table
      InstallExecuteSequence: unknown action "Fly"
    no action for the files
      File has rows, but InstallExecuteSequence doesn't have InstallFiles
    no action that ends it
      InstallExecuteSequence doesn't have InstallFinalize
    costs at the end
      InstallExecuteSequence: InstallValidate comes too early
      InstallExecuteSequence: InstallInitialize comes too early
      InstallExecuteSequence: ProcessComponents comes too early
      InstallExecuteSequence: RegisterProduct comes too early
      InstallExecuteSequence: InstallFinalize comes too early
    an action of its own without a place
      InstallUISequence: unknown action "Owm"
    shortcuts that nothing makes
      Shortcut has rows, but InstallExecuteSequence doesn't have CreateShortcuts
    "#);
}

#[test]
fn files_are_in_a_cabinet_and_components_in_a_feature() {
    insta::assert_snapshot!(found(&[
        ("two files at one place of the cabinet", "", |db| {
            db.add(&File { file: "FTwo", component: "CHive", file_name: "two.txt", sequence: 1, ..File::default() })
        }),
        ("a file behind the last of the cabinet", "", |db| {
            db.add(&File { file: "FTwo", component: "CHive", file_name: "two.txt", sequence: 2, ..File::default() })
        }),
        ("a cabinet that ends before the one in front of it", "", |db| {
            db.add(&Media { disk_id: 2, last_sequence: 0, cabinet: "#files.cab", ..Media::default() })
        }),
        ("a cabinet that isn't there", "", |db| {
            db.add(&Media { disk_id: 2, last_sequence: 2, cabinet: "#more.cab", ..Media::default() })
        }),
        ("two components of one GUID", "", |db| {
            db.add(&FeatureComponents { feature: "Main", component: "CTwo" })?;
            db.add(&Component {
                component: "CTwo",
                component_id: OTHER,
                directory: "HIVES",
                attributes: 256,
                ..Component::default()
            })
        }),
        ("a component of no feature with the key of another", "", |db| {
            db.add(&Component {
                component: "CTwo",
                component_id: CODE,
                directory: "HIVES",
                attributes: 256,
                key_path: "FHive",
                ..Component::default()
            })
        }),
        ("a hash of a file that has a version", "", |db| {
            db.add(&File {
                file: "FTwo",
                component: "CHive",
                file_name: "two.dll",
                version: "1.0.0.0",
                sequence: 1,
                ..File::default()
            })?;
            db.add(&MsiFileHash { file: "FTwo", options: 0, ..MsiFileHash::default() })
        }),
    ]), @r#"
    two files at one place of the cabinet
      File, row "FTwo": the sequence 1 is in no cabinet, or already taken
    a file behind the last of the cabinet
      File, row "FTwo": the sequence 2 is in no cabinet, or already taken
    a cabinet that ends before the one in front of it
      Media, row 2: LastSequence 0 is less than the previous row's
      File, row "FHive": the sequence 1 is in no cabinet, or already taken
    a cabinet that isn't there
      Media, row 2: there is no cabinet more.cab inside
    two components of one GUID
      Component, row "CTwo": another one has the same GUID
    a component of no feature with the key of another
      Component, row "CTwo": it is in no feature
      Component, row "CTwo": the key path "FHive" is not its own
    a hash of a file that has a version
      File, row "FTwo": the sequence 1 is in no cabinet, or already taken
      MsiFileHash, row "FTwo": the file has a version
    "#);
}
