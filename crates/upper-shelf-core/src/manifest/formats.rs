//! The manifest's part that belongs to single formats, as people write it: what only one of them has, and the window of
//! disk images. As in `written`, the reference's text is these types' comments.

use crate::footprint::Access;
use crate::settings::{
    CabinetCompression, CabinetPlace, Compression, DmgCompression, SettingsPlace, SetupCompression, UpdateCheck,
    UpdatePrompt,
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// Settings of single formats.
#[derive(Debug, Clone, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct TargetSettings {
    /// For AppImages.
    #[serde(default)]
    pub appimage: AppimageSettings,
    /// For ZIP archives.
    #[serde(default)]
    pub zip: ZipSettings,
    /// For tar archives.
    #[serde(default)]
    pub tar: TarSettings,
    /// For Windows Installer packages.
    #[serde(default)]
    pub msi: MsiSettings,
    /// For packages that Windows installs by itself.
    #[serde(default)]
    pub msix: MsixSettings,
    /// For setup programs.
    #[serde(default)]
    pub nsis: NsisSettings,
    /// For portable programs.
    #[serde(default)]
    pub portable: PortableSettings,
    /// For disk images.
    #[serde(default)]
    pub dmg: DmgSettings,
}

/// The window that a disk image opens. Everything has a default; positions are the centre of an icon, from the
/// upper left corner, in points.
#[derive(Debug, Clone, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct DiskImage {
    /// The volume's name; default: the product's.
    pub volume_name: Option<String>,
    /// Width and height of its contents; default `[640, 400]`.
    pub window: Option<[u32; 2]>,
    /// The position of the program; default: on the left.
    pub program: Option<[u32; 2]>,
    /// The position of the Applications folder; default: on the right.
    pub applications: Option<[u32; 2]>,
    /// The background picture, a file next to the manifest: an SVG, or a PNG of the window's size or, for high-resolution
    /// screens, twice that; default: a drawing in the colour of the product's icon.
    pub background: Option<String>,
    /// The text below the arrow of that drawing; default: "Drag to install" in the first language of the wizard. Nothing
    /// (`""`) leaves them out.
    pub word: Option<String>,
    /// Further files to show, such as a read-me, each with its position.
    #[serde(default)]
    pub file: Vec<DiskImageFile>,
    /// Size of icons; default 128.
    #[schemars(range(min = 16, max = 512))]
    pub icon_size: Option<u32>,
    /// Text size of names; default 13.
    #[schemars(range(min = 10, max = 16))]
    pub text_size: Option<u32>,
}

/// A further file of a disk image.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct DiskImageFile {
    /// The file, relative to the manifest; it keeps its name.
    pub from: String,
    /// Its position in the window.
    pub at: [u32; 2],
}

/// What only the application bundle on macOS has.
#[derive(Debug, Clone, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Bundle {
    /// Whether it runs without an icon in the Dock and without a menu bar of its own, as a menu bar extra does;
    /// default: no.
    #[serde(default)]
    pub agent: bool,
    /// The copyright notice; default: "©" and the publisher.
    pub copyright: Option<String>,
    /// The product's name in other languages, by the language's code: `names = { de = "Wabenbuch" }`.
    #[serde(default)]
    pub names: BTreeMap<String, String>,
    /// Other keys of the property list: `keys = { NSSupportsSuddenTermination = true }`. Keys that the manifest sets
    /// elsewhere can't be set here.
    #[serde(default)]
    pub keys: BTreeMap<String, ListValue>,
}

/// A value in a property list: text, a number, `true` or `false`, a list or a table.
#[derive(Debug, Clone, Deserialize, Serialize, JsonSchema)]
#[serde(untagged)]
pub enum ListValue {
    /// Yes or no.
    Switch(bool),
    /// A whole number.
    Integer(i64),
    /// Any other number.
    Real(f64),
    /// Text.
    Text(String),
    /// Several.
    List(Vec<ListValue>),
    /// Several with names.
    Table(BTreeMap<String, ListValue>),
}

/// What the product wants to get at beyond its own files: `true`, or why, as a sentence that systems show when they ask. One
/// declaration for all systems: `plan` says what each makes of it.
#[derive(Debug, Clone, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Permissions {
    /// To find devices nearby.
    pub bluetooth: Option<Wish>,
    /// To read and change calendar entries.
    pub calendars: Option<Wish>,
    /// To use the camera.
    pub camera: Option<Wish>,
    /// To read and change contacts.
    pub contacts: Option<Wish>,
    /// To read files on the desktop.
    pub desktop_folder: Option<Wish>,
    /// To read the user's documents.
    pub documents_folder: Option<Wish>,
    /// To read downloaded files.
    pub downloads_folder: Option<Wish>,
    /// To connect to other machines.
    pub internet: Option<Wish>,
    /// To find and connect to other machines on the local network.
    pub local_network: Option<Wish>,
    /// To know the location of the machine.
    pub location: Option<Wish>,
    /// To use the microphone.
    pub microphone: Option<Wish>,
    /// To read the user's music.
    pub music: Option<Wish>,
    /// To control other programs.
    pub other_programs: Option<Wish>,
    /// To see the user's photo library.
    pub photos: Option<Wish>,
    /// To read and change reminders.
    pub reminders: Option<Wish>,
    /// To read removable disks.
    pub removable_disks: Option<Wish>,
    /// To accept connections from other machines.
    pub server: Option<Wish>,
    /// To recognise speech.
    pub speech: Option<Wish>,
    /// To see the user's videos.
    pub videos: Option<Wish>,
}

/// Whether a product wants something: `true`, or why, as a sentence that systems show when they ask.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize, Serialize, JsonSchema)]
#[serde(untagged)]
pub enum Wish {
    /// Yes or no.
    Plain(bool),
    /// Yes, and why.
    Because(String),
}

impl Permissions {
    /// Those that are given.
    pub fn given(&self) -> Vec<(Access, &Wish)> {
        let of = |access: Access| match access {
            Access::Bluetooth => &self.bluetooth,
            Access::Calendars => &self.calendars,
            Access::Camera => &self.camera,
            Access::Contacts => &self.contacts,
            Access::DesktopFolder => &self.desktop_folder,
            Access::DocumentsFolder => &self.documents_folder,
            Access::DownloadsFolder => &self.downloads_folder,
            Access::Internet => &self.internet,
            Access::LocalNetwork => &self.local_network,
            Access::Location => &self.location,
            Access::Microphone => &self.microphone,
            Access::Music => &self.music,
            Access::OtherPrograms => &self.other_programs,
            Access::Photos => &self.photos,
            Access::Reminders => &self.reminders,
            Access::RemovableDisks => &self.removable_disks,
            Access::Server => &self.server,
            Access::Speech => &self.speech,
            Access::Videos => &self.videos,
        };
        Access::ALL.into_iter().filter_map(|access| Some((access, of(access).as_ref()?))).collect()
    }
}

/// What only disk images have.
#[derive(Debug, Clone, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct DmgSettings {
    /// The compression; default `zlib`, which every macOS reads.
    pub compression: Option<DmgCompression>,
    /// The compression level: 1 to 12 for `zlib`, to 9 for `bzip2`; default 9.
    #[schemars(range(min = 1, max = 12))]
    pub level: Option<u32>,
}

/// What only packages that Windows installs by itself (MSIX) have.
#[derive(Debug, Clone, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct MsixSettings {
    /// The package's name; default: the product's id. A store that gave you a name expects that one.
    pub name: Option<String>,
    /// The subject of the certificate that will sign the package, such as `CN=Fernhollow Apiary Works, C=AT`; default: that
    /// of the certificate in `[signing.windows]`. Windows installs the package only if both are the same.
    pub publisher: Option<String>,
    /// The version that Windows compares: up to four numbers, each up to 65535; default: the product's.
    pub version: Option<String>,
    /// The newest Windows that the product was tested with; default `10.0.22621`.
    pub tested_windows: Option<String>,
    /// The compression level; default 6.
    #[schemars(range(min = 1, max = 9))]
    pub level: Option<u32>,
    /// Puts the packages for several processors into one file, too (`.msixbundle`), of which Windows installs the one that
    /// fits; default: no.
    #[serde(default)]
    pub bundle: bool,
    /// Writes the system's own file for updates beside the package (`.appinstaller`).
    pub app_installer: Option<AppInstallerSettings>,
    /// Capabilities that no permission stands for, such as `allowElevation`, by the names that Windows has for them.
    #[serde(default)]
    pub capabilities: Vec<String>,
    /// Framework packages that must be there: Windows installs the product only with them.
    #[serde(default)]
    pub framework: Vec<FrameworkSettings>,
}

/// A framework package that the product needs.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct FrameworkSettings {
    /// The package's name.
    pub name: String,
    /// The subject of the certificate that signed it.
    pub publisher: String,
    /// The smallest version that will do, up to four numbers.
    pub version: String,
}

/// The system's own file for updates: whoever installs a product by it gets new versions by the system.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct AppInstallerSettings {
    /// The folder on a server that has the package and this file: `https://fernhollow.example/packages`.
    pub address: String,
    /// When the system looks for a newer version; default `both`.
    pub check: Option<UpdateCheck>,
    /// What users see when the program is started and there is one; default `silent`.
    pub prompt: Option<UpdatePrompt>,
    /// At a start, it looks once in so many hours at most; default 24.
    #[schemars(range(min = 0, max = 255))]
    pub hours: Option<u32>,
}

/// What setup programs and portable programs have.
#[derive(Debug, Clone, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct NsisSettings {
    /// The compression; default `lzma`.
    pub compression: Option<SetupCompression>,
    /// The dictionary of `lzma`: a power of two; default 32, less for small products. Packing takes about twelve times
    /// as much memory, fourteen times on several processors; installing takes it once.
    #[schemars(range(min = 1, max = 256))]
    pub dictionary_megabytes: Option<u32>,
}

/// What only portable programs have; they are packed as `[target.nsis]` says.
#[derive(Debug, Clone, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct PortableSettings {
    /// The program that it starts; default: the first one.
    pub program: Option<String>,
    /// Where the program keeps its settings: `user-folder` (default), or `program-folder`: next
    /// to the portable program, in a folder that stands for the user's own while it runs.
    pub settings: Option<SettingsPlace>,
}

/// What only Windows Installer packages have.
#[derive(Debug, Clone, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct MsiSettings {
    /// The compression; default `lzx`.
    pub compression: Option<CabinetCompression>,
    /// The version as Windows Installer compares it, such as `2.4.0`, where the product's own can't be compared by it: up to
    /// three numbers, increased with each release.
    pub version: Option<String>,
    /// The upgrade code, without braces; default: made from the product's id. Only for products that were released with another one.
    pub upgrade_code: Option<String>,
    /// Where its cabinets are; default `embedded`.
    pub cabinets: Option<CabinetPlace>,
    /// The most megabytes of files in a cabinet; default 1900, which is also the maximum.
    #[schemars(range(min = 1, max = 1900))]
    pub cabinet_megabytes: Option<u64>,
    /// The code page of its texts, such as 1252; default: 1252 if it holds them all, else 65001 (UTF-8).
    pub code_page: Option<u32>,
}

/// What only AppImages have.
#[derive(Debug, Clone, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct AppimageSettings {
    /// The compression; default `zstd`.
    pub compression: Option<Compression>,
    /// The compression level; default 9 for `zstd` and `gzip`, 6 for `xz`.
    #[schemars(range(min = 0, max = 22))]
    pub level: Option<u32>,
    /// Bytes in a block: a power of two from 4096 to 1048576, the default.
    #[schemars(range(min = 4096, max = 1048576))]
    pub block_size: Option<u32>,
    /// Embedded update information, in the AppImage specification's form.
    pub update_information: Option<String>,
}

/// What only ZIP archives have.
#[derive(Debug, Clone, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct ZipSettings {
    /// The compression level: 0 (stored) to 9; default 6.
    #[schemars(range(min = 0, max = 9))]
    pub level: Option<u32>,
}

/// What only tar archives have.
#[derive(Debug, Clone, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct TarSettings {
    /// The compression; default `gzip`, which is available everywhere.
    pub compression: Option<Compression>,
    /// The compression level; default 6 for `gzip` and `xz`, 9 for `zstd`.
    #[schemars(range(min = 0, max = 22))]
    pub level: Option<u32>,
}
