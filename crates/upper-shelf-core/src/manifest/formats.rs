//! The manifest's part that belongs to single formats, as people write it: what only one of them has, and the window of
//! disk images. As in `written`, the reference's text is these types' comments.

use crate::footprint::Reason;
use crate::settings::{CabinetCompression, CabinetPlace, Compression, DmgCompression, SettingsPlace, SetupCompression};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// What only one format has.
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

/// The window that a disk image opens. Everything has a sensible default; places are the middle of a symbol, from the
/// upper left corner, in points.
#[derive(Debug, Clone, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct DiskImage {
    /// The volume's name; default: the product's.
    pub volume_name: Option<String>,
    /// Width and height of its contents; default `[640, 400]`.
    pub window: Option<[u32; 2]>,
    /// Where the program stands; default: on the left.
    pub program: Option<[u32; 2]>,
    /// Where the folder of applications stands; default: on the right.
    pub applications: Option<[u32; 2]>,
    /// The picture behind the symbols, beside the manifest: an SVG, or a PNG of the window's size or, for dense screens,
    /// of twice that; default: a drawing in the colour of the product's icon.
    pub background: Option<String>,
    /// The words below the arrow of that drawing; default: "Drag to install" in the first language of the wizard. Nothing
    /// (`""`) leaves them out.
    pub word: Option<String>,
    /// Further files beside the manifest that the image shows, such as a read-me: each with its place.
    #[serde(default)]
    pub file: Vec<DiskImageFile>,
    /// Width of a symbol; default 128.
    #[schemars(range(min = 16, max = 512))]
    pub icon_size: Option<u32>,
    /// Height of the letters of names; default 13.
    #[schemars(range(min = 10, max = 16))]
    pub text_size: Option<u32>,
}

/// A further file of a disk image.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct DiskImageFile {
    /// The file, beside the manifest; it keeps its name.
    pub from: String,
    /// Where it stands in the window.
    pub at: [u32; 2],
}

/// What the application bundle says of the product on macOS, besides what all systems are told.
#[derive(Debug, Clone, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Bundle {
    /// Whether it runs without a symbol in the Dock and without a menu bar of its own, as what lives in the menu bar's
    /// corner does; default: no.
    #[serde(default)]
    pub agent: bool,
    /// Whose it is; default: "©" and the publisher.
    pub copyright: Option<String>,
    /// The product's name in other languages, by the language's code: `names = { de = "Wabenbuch" }`.
    #[serde(default)]
    pub names: BTreeMap<String, String>,
    /// Why the product wants what the system asks people about: without its reason it is ended when it tries.
    #[serde(default)]
    pub reasons: Reasons,
    /// Further keys of the property list, under their names there: `keys = { NSSupportsSuddenTermination = true }`.
    /// What the manifest has a place for is written from there only.
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

/// Reasons, as sentences for the system's question.
#[derive(Debug, Clone, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Reasons {
    /// To find devices nearby.
    pub bluetooth: Option<String>,
    /// To read and change appointments.
    pub calendars: Option<String>,
    /// To see through the camera.
    pub camera: Option<String>,
    /// To read and change people's addresses.
    pub contacts: Option<String>,
    /// To read what lies on the desktop.
    pub desktop_folder: Option<String>,
    /// To read the person's documents.
    pub documents_folder: Option<String>,
    /// To read what was downloaded.
    pub downloads_folder: Option<String>,
    /// To find and talk to other machines of the same network.
    pub local_network: Option<String>,
    /// To know where the machine is.
    pub location: Option<String>,
    /// To hear through the microphone.
    pub microphone: Option<String>,
    /// To make other programs do things.
    pub other_programs: Option<String>,
    /// To see the person's collection of photographs.
    pub photos: Option<String>,
    /// To read and change reminders.
    pub reminders: Option<String>,
    /// To read disks that come and go.
    pub removable_disks: Option<String>,
    /// To turn speech into text.
    pub speech: Option<String>,
}

impl Reasons {
    /// Those that are given, with their keys.
    pub fn given(&self) -> Vec<(Reason, &String)> {
        [
            (Reason::Bluetooth, &self.bluetooth),
            (Reason::Calendars, &self.calendars),
            (Reason::Camera, &self.camera),
            (Reason::Contacts, &self.contacts),
            (Reason::DesktopFolder, &self.desktop_folder),
            (Reason::DocumentsFolder, &self.documents_folder),
            (Reason::DownloadsFolder, &self.downloads_folder),
            (Reason::LocalNetwork, &self.local_network),
            (Reason::Location, &self.location),
            (Reason::Microphone, &self.microphone),
            (Reason::OtherPrograms, &self.other_programs),
            (Reason::Photos, &self.photos),
            (Reason::Reminders, &self.reminders),
            (Reason::RemovableDisks, &self.removable_disks),
            (Reason::Speech, &self.speech),
        ]
        .into_iter()
        .filter_map(|(key, reason)| Some((key, reason.as_ref()?)))
        .collect()
    }
}

/// What only disk images have.
#[derive(Debug, Clone, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct DmgSettings {
    /// How it is packed; default `zlib`, which every macOS reads.
    pub compression: Option<DmgCompression>,
    /// How hard: 1 to 12 for `zlib`, to 9 for `bzip2`; default 9.
    #[schemars(range(min = 1, max = 12))]
    pub level: Option<u32>,
}

/// What setup programs and portable programs have.
#[derive(Debug, Clone, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct NsisSettings {
    /// How files are packed; default `lzma`.
    pub compression: Option<SetupCompression>,
    /// How far back the packer looks, for `lzma`: a power of two; default 32, less for small products. Packing takes
    /// about twelve times as much memory, on several processors fourteen times, installing once.
    #[schemars(range(min = 1, max = 256))]
    pub dictionary_megabytes: Option<u32>,
}

/// What only portable programs have; they are packed as `[target.nsis]` says.
#[derive(Debug, Clone, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct PortableSettings {
    /// The program that it starts; default: the first one.
    pub program: Option<String>,
    /// Where the program keeps its settings: `usual` (default), or `beside` the portable program, in a folder that
    /// stands for the person's own while it runs.
    pub settings: Option<SettingsPlace>,
}

/// What only Windows Installer packages have.
#[derive(Debug, Clone, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct MsiSettings {
    /// How cabinets are packed; default `lzx`.
    pub compression: Option<CabinetCompression>,
    /// The version as Windows Installer compares it, such as `2.4.0`, where the product's own can't be compared by it: up to
    /// three numbers, raised for each release.
    pub version: Option<String>,
    /// The upgrade code, without braces; default: made from the product's id. Only for products that were released with another one.
    pub upgrade_code: Option<String>,
    /// Where its cabinets are; default `inside`.
    pub cabinets: Option<CabinetPlace>,
    /// A cabinet ends before its files have more megabytes than this; default 1900, which is also the most.
    #[schemars(range(min = 1, max = 1900))]
    pub cabinet_megabytes: Option<u64>,
    /// The code page of its texts, such as 1252; default: 1252 if it holds them all, else 65001 (UTF-8).
    pub code_page: Option<u32>,
}

/// What only AppImages have.
#[derive(Debug, Clone, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct AppimageSettings {
    /// How blocks are packed; default `zstd`.
    pub compression: Option<Compression>,
    /// How hard; default 9 for `zstd` and `gzip`, 6 for `xz`.
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
    /// How hard files are packed: 0 (stored) to 9; default 6.
    #[schemars(range(min = 0, max = 9))]
    pub level: Option<u32>,
}

/// What only tar archives have.
#[derive(Debug, Clone, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct TarSettings {
    /// How it is packed; default `gzip`, which is everywhere.
    pub compression: Option<Compression>,
    /// How hard; default 6 for `gzip` and `xz`, 9 for `zstd`.
    #[schemars(range(min = 0, max = 22))]
    pub level: Option<u32>,
}
