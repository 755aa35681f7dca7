//! The rows of the MSI that a product becomes.

use crate::generated::{package, without_guids};
use msi_database::compound::{Compound, Limits as CompoundLimits};
use msi_database::read::Limits as DatabaseLimits;
use std::fs::File;

/// The rows of a table of the MSI, cells with bars between them. Sizes of programs that the tool brings are left out.
fn rows(table: &str) -> String {
    let mut compound = Compound::open(File::open(package(".msi")).unwrap(), CompoundLimits::default()).unwrap();
    let database = msi_database::read::read(&mut compound, DatabaseLimits::default()).unwrap().database;
    let columns = database.table(table).unwrap_or_else(|| panic!("no {table}")).columns();
    let names: Vec<&str> = columns.iter().map(|column| column.name.as_str()).collect();
    let mut lines = vec![names.join(" | ")];
    for row in database.rows(table) {
        let cell = |value: &msi_database::database::Value| match (database.int(*value), database.str(*value)) {
            (Some(10_000..100_000), _) if table == "File" => "…".to_owned(),
            (Some(number), _) => number.to_string(),
            (None, text) => without_guids(text),
        };
        lines.push(row.iter().map(cell).collect::<Vec<_>>().join(" | ").trim_end().to_owned());
    }
    lines.join("\n")
}

#[test]
fn an_msi_has_a_component_for_each_file_and_each_entry_of_the_system() {
    insta::assert_snapshot!(rows("Component"), @r#"
    Component | ComponentId | Directory_ | Attributes | Condition | KeyPath
    Cc5d84172b02e91_hives.exe | {GUID} | Dd85a0166220947_commands | 256 |  | Fc5d84172b02e91_hives.exe
    C6afaed293bc3fd_hive.ttf | {GUID} | D45c156dbba1856_share | 256 |  | F6afaed293bc3fd_hive.ttf
    Cf0172b5fe02514_hives | {GUID} | D45c156dbba1856_share | 256 |  | Ff0172b5fe02514_hives
    C987a3c696d909f_hives.1 | {GUID} | D45c156dbba1856_share | 256 |  | F987a3c696d909f_hives.1
    C8829c07ee842ee_hives.bash | {GUID} | D45c156dbba1856_share | 256 |  | F8829c07ee842ee_hives.bash
    C4a264dbad311ec_sample.hive | {GUID} | D45c156dbba1856_share | 256 |  | F4a264dbad311ec_sample.hive
    CSettings | {GUID} | INSTALLDIR | 260 |  | RFolder
    CS7b75623a7c11e4_Hives | {GUID} | INSTALLDIR | 260 |  | RS7b75623a7c11e4_Hives
    K455511813dd398_.hive | {GUID} | INSTALLDIR | 260 | NOT CLAIMED1 OR CLAIMED1 = "works.fernhollow.hives.hive" | RK455511813dd398_.hive
    Ke09d8ff8af781e_hives | {GUID} | INSTALLDIR | 260 | NOT CLAIMED2 OR CLAIMED2 ~>< "\hives" | RKe09d8ff8af781e_hives
    "#);
    insta::assert_snapshot!(rows("File"), @r#"
    File | Component_ | FileName | FileSize | Version | Language | Attributes | Sequence
    Fc5d84172b02e91_hives.exe | Cc5d84172b02e91_hives.exe | hives.exe | … | 1.4.0.0 | 1033 | 512 | 1
    F6afaed293bc3fd_hive.ttf | C6afaed293bc3fd_hive.ttf | hive.ttf | 10 |  |  | 512 | 2
    Ff0172b5fe02514_hives | Cf0172b5fe02514_hives | hives | 10 |  |  | 512 | 3
    F987a3c696d909f_hives.1 | C987a3c696d909f_hives.1 | hives.1 | 10 |  |  | 512 | 4
    F8829c07ee842ee_hives.bash | C8829c07ee842ee_hives.bash | HIVES~1.BAS|hives.bash | 10 |  |  | 512 | 5
    F4a264dbad311ec_sample.hive | C4a264dbad311ec_sample.hive | SAMPLE~1.HIV|sample.hive | 10 |  |  | 512 | 6
    "#);
    insta::assert_snapshot!(rows("Directory"), @r#"
    Directory | Directory_Parent | DefaultDir
    Dd85a0166220947_commands | INSTALLDIR | commands
    D45c156dbba1856_share | INSTALLDIR | share
    INSTALLDIR | ABOVE0 | Hives
    TARGETDIR |  | SourceDir
    ProgramFiles64Folder | TARGETDIR | .
    ProgramMenuFolder | TARGETDIR | .
    DesktopFolder | TARGETDIR | .
    StartupFolder | TARGETDIR | .
    ABOVE0 | ProgramFiles64Folder | FERNHO~1|Fernhollow
    "#);
    insta::assert_snapshot!(rows("Feature"), @r#"
    Feature | Feature_Parent | Title | Description | Display | Level | Directory_ | Attributes
    Main |  | Hives |  | 1 | 1 | INSTALLDIR | 24
    Choice.samples | Main | Samples |  | 3 | 1 | INSTALLDIR | 8
    "#);
}

#[test]
fn an_msi_writes_what_the_manifest_names() {
    insta::assert_snapshot!(rows("Registry"), @r#"
    Registry | Root | Key | Name | Value | Component_
    RFolder | -1 | Software\works.fernhollow.hives | InstallFolder | [INSTALLDIR] | CSettings
    RS7b75623a7c11e4_Hives | 1 | Software\works.fernhollow.hives | S7b75623a7c11e4_Hives | #1 | CS7b75623a7c11e4_Hives
    R1 | -1 | Software\works.fernhollow.hives\Capabilities | ApplicationName | Hives | CSettings
    R2 | -1 | Software\works.fernhollow.hives\Capabilities | ApplicationDescription | All hives | CSettings
    R3 | -1 | Software\RegisteredApplications | works.fernhollow.hives | Software\works.fernhollow.hives\Capabilities | CSettings
    R4 | -1 | Software\Classes\works.fernhollow.hives.hive |  | Hive | Cf0172b5fe02514_hives
    R5 | -1 | Software\Classes\works.fernhollow.hives.hive\DefaultIcon |  | [#Ff0172b5fe02514_hives],0 | Cf0172b5fe02514_hives
    R6 | -1 | Software\Classes\works.fernhollow.hives.hive\shell\open\command |  | "[#Ff0172b5fe02514_hives]" --all "%1" | Cf0172b5fe02514_hives
    R7 | -1 | Software\Classes\.hive\OpenWithProgids | works.fernhollow.hives.hive |  | Cf0172b5fe02514_hives
    R8 | -1 | Software\works.fernhollow.hives\Capabilities\FileAssociations | .hive | works.fernhollow.hives.hive | Cf0172b5fe02514_hives
    RK455511813dd398_.hive | -1 | Software\works.fernhollow.hives | K455511813dd398_.hive | #1 | K455511813dd398_.hive
    R9 | -1 | Software\Classes\.hive |  | works.fernhollow.hives.hive | K455511813dd398_.hive
    R10 | -1 | Software\Classes\.hive | Content Type | application/x-hive | K455511813dd398_.hive
    R11 | -1 | Software\works.fernhollow.hives\Capabilities\URLAssociations | hives | works.fernhollow.hives.link.hives | Cf0172b5fe02514_hives
    RKe09d8ff8af781e_hives | -1 | Software\works.fernhollow.hives | Ke09d8ff8af781e_hives | #1 | Ke09d8ff8af781e_hives
    R12 | -1 | Software\Classes\works.fernhollow.hives.link.hives |  | URL:hives | Cf0172b5fe02514_hives
    R13 | -1 | Software\Classes\works.fernhollow.hives.link.hives | URL Protocol |  | Cf0172b5fe02514_hives
    R14 | -1 | Software\Classes\works.fernhollow.hives.link.hives\shell\open\command |  | "[#Ff0172b5fe02514_hives]" --all "%1" | Cf0172b5fe02514_hives
    R15 | -1 | Software\Classes\hives |  | URL:hives | Ke09d8ff8af781e_hives
    R16 | -1 | Software\Classes\hives | URL Protocol |  | Ke09d8ff8af781e_hives
    R17 | -1 | Software\Classes\hives\shell\open\command |  | "[#Ff0172b5fe02514_hives]" --all "%1" | Ke09d8ff8af781e_hives
    R18 | -1 | Software\Fernhollow\Hives | Season | #2026 | CSettings
    "#);
    insta::assert_snapshot!(rows("Shortcut"), @r#"
    Shortcut | Directory_ | Name | Component_ | Target | Arguments | Description | Hotkey | Icon_ | IconIndex | ShowCmd | WkDir | DisplayResourceDLL | DisplayResourceId | DescriptionResourceDLL | DescriptionResourceId
    S7b75623a7c11e4_Hives | ProgramMenuFolder | Hives | CS7b75623a7c11e4_Hives | [#Ff0172b5fe02514_hives] | --all | All hives |  | product.ico | 0 | 1 | PERSONHOME |  |  |  |
    "#);
    insta::assert_snapshot!(rows("Environment"), @r#"
    Environment | Name | Value | Component_
    Vbe05e34a41fedf_HIVES_SEASON | =-*HIVES_SEASON | 2026 | CSettings
    V5f450e191cd202_PATH | =-*PATH | [~];[INSTALLDIR]commands | CSettings
    "#);
    insta::assert_snapshot!(rows("ServiceInstall"), @r#"
    ServiceInstall | Name | DisplayName | ServiceType | StartType | ErrorControl | LoadOrderGroup | Dependencies | StartName | Password | Arguments | Component_ | Description
    Seb3ffedabce0f3_HiveScale | HiveScale | HiveScale | 16 | 2 | 32769 |  |  |  |  | --all | Cf0172b5fe02514_hives |
    "#);
    insta::assert_snapshot!(rows("Font"), @r#"
    File_ | FontTitle
    F6afaed293bc3fd_hive.ttf | Hive Sans (TrueType)
    "#);
    insta::assert_snapshot!(rows("LaunchCondition"), @r#"
    Condition | Description
    Installed OR NOT NEWERFOUND | A newer version of [ProductName] is already installed. To install this version, uninstall the newer one first.
    Installed OR NOT SETUPORDER7 OR SETUPORDER7 <= "01101400f" | A newer version of [ProductName] is already installed. To install this version, uninstall the newer one first.
    Installed OR WINDOWSBUILD >= 17763 | [ProductName] requires Windows 10.0.17763 or later.
    "#);
    insta::assert_snapshot!(rows("Upgrade"), @r#"
    UpgradeCode | VersionMin | VersionMax | Language | Attributes | Remove | ActionProperty
    {GUID} |  | 1.4.0 |  | 513 |  | OLDERFOUND
    {GUID} | 1.4.0 |  |  | 2 |  | NEWERFOUND
    "#);
}
