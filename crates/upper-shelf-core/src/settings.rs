//! What only one format has, with every default taken: the manifest resolves it, the formats read it, and neither knows the
//! other.

use crate::footprint::Access;
use crate::platform::System;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// With which key is signed, and how. None of it is secret.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Signing {
    /// For which system.
    pub system: System,
    /// A PKCS #12 file, or a private key in the PEM form.
    pub key: std::path::PathBuf,
    /// The key's certificate and those above it, where the first file does not hold them.
    pub certificates: Option<std::path::PathBuf>,
    /// Where the key's secret is kept, if it has one.
    pub secret: Option<crate::secret::Place>,
    /// Addresses of authorities for timestamps, in the order in which they are asked.
    pub timestamps: Vec<String>,
    /// The certificates of the authorities whose timestamps are accepted; any, if there are none.
    pub timestamp_roots: Option<std::path::PathBuf>,
    /// The digest; none for what goes with the key.
    pub digest: Option<Digest>,
    /// Whether programs of Windows are signed page by page, too.
    pub page_hashes: bool,
}

/// With which key of OpenPGP is signed. None of it is secret.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OpenPgpSigning {
    /// The file of the private key.
    pub key: std::path::PathBuf,
    /// Where the key's secret is kept, if it has one.
    pub secret: Option<crate::secret::Place>,
}

/// How code for macOS is signed: with a key, or ad hoc.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct CodeSigning {
    /// The key, if there is one.
    pub key: Option<Signing>,
    /// A property list of what programs may do.
    pub entitlements: Option<std::path::PathBuf>,
    /// Whether the hardened runtime guards programs.
    pub runtime: bool,
    /// Whether what others have signed is signed again.
    pub replace: bool,
    /// The team that the certificate has to be of.
    pub team: Option<String>,
    /// What the product wants to get at.
    pub permissions: Vec<Access>,
}

/// What happens to signatures that are there already.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum ExistingSignatures {
    /// They stay.
    #[default]
    Keep,
    /// They go, and others come in their place.
    Replace,
}

/// A digest that is signed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Digest {
    /// SHA-256.
    Sha256,
    /// SHA-384.
    Sha384,
    /// SHA-512.
    Sha512,
}

/// A package format.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum TargetName {
    /// One file for Linux that starts without being installed.
    Appimage,
    /// An archive for every system.
    Zip,
    /// An archive for every system; for Linux with scripts that install and uninstall.
    Tar,
    /// A Windows Installer package.
    Msi,
    /// A package that Windows installs by itself.
    Msix,
    /// A setup program for Windows, in the NSIS format.
    Nsis,
    /// One program for Windows that runs without being installed.
    Portable,
    /// A disk image for macOS, with an application bundle in it.
    Dmg,
}

impl TargetName {
    /// Its name in manifests.
    pub fn name(self) -> &'static str {
        match self {
            Self::Appimage => "appimage",
            Self::Zip => "zip",
            Self::Tar => "tar",
            Self::Msi => "msi",
            Self::Msix => "msix",
            Self::Nsis => "nsis",
            Self::Portable => "portable",
            Self::Dmg => "dmg",
        }
    }

    /// The systems that it is built for.
    pub fn systems(self) -> &'static [System] {
        match self {
            Self::Appimage => &[System::Linux],
            Self::Msi | Self::Msix | Self::Nsis | Self::Portable => &[System::Windows],
            Self::Dmg => &[System::Macos],
            Self::Zip | Self::Tar => &[System::Linux, System::Windows, System::Macos],
        }
    }

    /// The usual one for a system.
    pub fn usual(system: System) -> Self {
        match system {
            System::Linux => Self::Appimage,
            System::Windows => Self::Msi,
            System::Macos => Self::Dmg,
        }
    }
}

/// How a disk image is packed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum DmgCompression {
    /// Read by every macOS.
    #[default]
    Zlib,
    /// Quick to read; since OS X 10.11.
    Lzfse,
    /// Smaller, slow to read.
    Bzip2,
    /// Not packed.
    None,
}

/// How a setup program's files are packed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum SetupCompression {
    /// Smallest.
    #[default]
    Lzma,
    /// Fast to pack and to install.
    Deflate,
}

/// Where a portable program keeps its settings.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum SettingsPlace {
    /// Where the system has them.
    #[default]
    UserFolder,
    /// Next to the portable program.
    ProgramFolder,
}

/// How cabinets are packed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum CabinetCompression {
    /// Smallest.
    #[default]
    Lzx,
    /// Fast to pack.
    Mszip,
    /// Not packed.
    Stored,
}

/// Where the cabinets of a Windows Installer package are.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum CabinetPlace {
    /// In the package.
    #[default]
    Embedded,
    /// In files of their own, which have to be next to the package.
    External,
}

/// A compression.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Compression {
    /// Known everywhere.
    Gzip,
    /// Small, and by far the fastest to unpack.
    Zstd,
    /// Smallest, slow.
    Xz,
}

/// What only one format has.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Settings {
    /// For AppImages.
    pub appimage: Appimage,
    /// For ZIP archives.
    pub zip: Zip,
    /// For tar archives.
    pub tar: Tar,
    /// For Windows Installer packages.
    pub msi: Msi,
    /// For packages that Windows installs by itself.
    pub msix: Msix,
    /// For setup programs, and for how portable programs are packed.
    pub nsis: Nsis,
    /// For portable programs.
    pub portable: Portable,
    /// For disk images.
    pub dmg: Dmg,
}

/// For AppImages.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Appimage {
    /// How blocks are packed.
    pub compression: Compression,
    /// How hard.
    pub level: u32,
    /// Bytes in a block: a power of two.
    pub block_size: u32,
    /// Embedded update information, in the AppImage specification's form; none by default.
    pub update_information: Option<String>,
}

impl Appimage {
    /// The usual level of a compression.
    pub fn usual_level(compression: Compression) -> u32 {
        match compression {
            Compression::Gzip | Compression::Zstd => 9,
            Compression::Xz => 6,
        }
    }
}

impl Default for Appimage {
    fn default() -> Self {
        let compression = Compression::Zstd;
        let level = Self::usual_level(compression);
        Self { compression, level, block_size: 1 << 20, update_information: None }
    }
}

/// For ZIP archives.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Zip {
    /// How hard files are packed: 0 (stored) to 9.
    pub level: u32,
}

impl Default for Zip {
    fn default() -> Self {
        Self { level: 6 }
    }
}

/// For tar archives.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Tar {
    /// How it is packed.
    pub compression: Compression,
    /// How hard.
    pub level: u32,
}

impl Tar {
    /// The usual level of a compression.
    pub fn usual_level(compression: Compression) -> u32 {
        match compression {
            Compression::Gzip | Compression::Xz => 6,
            Compression::Zstd => 9,
        }
    }
}

impl Default for Tar {
    fn default() -> Self {
        let compression = Compression::Gzip;
        Self { compression, level: Self::usual_level(compression) }
    }
}

/// The code page of a Windows Installer package's texts.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum CodePage {
    /// That of Western Europe (1252) if it holds every text, as older systems expect; else UTF-8 (65001).
    #[default]
    Fitting,
    /// This one.
    Number(u32),
}

/// For Windows Installer packages.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Msi {
    /// How cabinets are packed.
    pub compression: CabinetCompression,
    /// The version as Windows Installer compares it, where it is not the product's own.
    pub version: Option<String>,
    /// Where the cabinets are.
    pub cabinets: CabinetPlace,
    /// A cabinet ends before its files have more megabytes than this.
    pub cabinet_megabytes: u64,
    /// The code page of its texts.
    pub code_page: CodePage,
}

impl Default for Msi {
    fn default() -> Self {
        Self {
            compression: CabinetCompression::default(),
            version: None,
            cabinets: CabinetPlace::default(),
            // A cabinet's own limit is 2 GiB.
            cabinet_megabytes: 1900,
            code_page: CodePage::default(),
        }
    }
}

/// For packages that Windows installs by itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Msix {
    /// The package's name, where it is not the product's id.
    pub name: Option<String>,
    /// The subject of the certificate that signs it, where that is known.
    pub publisher: Option<String>,
    /// The version as Windows compares it, where it is not the product's own.
    pub version: Option<String>,
    /// The build of the newest Windows that it was tested with.
    pub tested_windows: u32,
    /// Languages that the product has, the first one that of the texts.
    pub languages: Vec<String>,
    /// How hard blocks are packed: 1 to 9.
    pub level: u32,
    /// Where the system looks for updates by itself.
    pub app_installer: Option<AppInstaller>,
    /// Whether the packages for several processors become one file, too.
    pub bundle: bool,
    /// Capabilities besides those of permissions, by their names.
    pub capabilities: Vec<String>,
    /// Packages that must be there.
    pub frameworks: Vec<Framework>,
}

/// A package that others need: Windows installs them only where it is there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Framework {
    /// Its name.
    pub name: String,
    /// The subject of the certificate that signed it.
    pub publisher: String,
    /// The smallest version that will do.
    pub version: String,
}

/// When the system looks for updates of a package.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum UpdateCheck {
    /// When the program is started.
    Start,
    /// Every eight hours, whether it is started or not.
    Background,
    /// Both.
    #[default]
    Both,
}

/// What users see of an update that is found when the program is started.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum UpdatePrompt {
    /// Nothing: the new version is there at the next start.
    #[default]
    Silent,
    /// They are asked.
    Ask,
    /// The program starts only after the update.
    Required,
}

/// Where the system looks for updates by itself, and when.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AppInstaller {
    /// The folder on a server that has the package and the file beside it.
    pub address: String,
    /// When it looks.
    pub check: UpdateCheck,
    /// What users see.
    pub prompt: UpdatePrompt,
    /// At most once in so many hours when the program is started: 0 to 255.
    pub hours: u32,
}

impl Default for Msix {
    fn default() -> Self {
        Self {
            name: None,
            publisher: None,
            version: None,
            tested_windows: 22621,
            languages: vec!["en".into()],
            level: 6,
            app_installer: None,
            bundle: false,
            capabilities: Vec::new(),
            frameworks: Vec::new(),
        }
    }
}

/// For setup programs, and for how portable programs are packed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Nsis {
    /// How files are packed.
    pub compression: SetupCompression,
    /// How far back the packer looks: a power of two. Small products take less.
    pub dictionary_megabytes: u32,
}

impl Default for Nsis {
    fn default() -> Self {
        Self { compression: SetupCompression::default(), dictionary_megabytes: 32 }
    }
}

/// For portable programs.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Portable {
    /// The key of the program that it starts, where it is not the first one.
    pub program: Option<String>,
    /// Where the program keeps its settings.
    pub settings: SettingsPlace,
}

/// For disk images.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Dmg {
    /// How it is packed.
    pub compression: DmgCompression,
    /// How hard.
    pub level: u32,
}

impl Default for Dmg {
    fn default() -> Self {
        Self { compression: DmgCompression::default(), level: 9 }
    }
}

/// The words below the arrow in the window of a disk image.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum Words {
    /// None.
    #[default]
    None,
    /// The usual ones; left out where they have no room.
    Usual(String),
    /// Those of the manifest; an error where they have no room.
    Stated(String),
}

/// The window of a disk image. Places are the middle of a symbol, from the upper left corner, in points.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DiskImage {
    /// Width and height, points.
    pub size: (u32, u32),
    /// Width of a symbol, points.
    pub icon: u32,
    /// Height of letters, points.
    pub text: u32,
    /// Where the program's symbol stands.
    pub program: (u32, u32),
    /// Where the Applications folder stands.
    pub applications: (u32, u32),
    /// The volume's name, where it is not the product's.
    pub volume_name: Option<String>,
    /// The picture behind the symbols, where it is not drawn here: an SVG or a PNG.
    pub background: Option<Vec<u8>>,
    /// Words below the arrow of the drawing that stands behind them otherwise.
    pub words: Words,
    /// Further files.
    pub files: Vec<FurtherFile>,
}

/// A file that a disk image shows beside the program.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FurtherFile {
    /// Its name.
    pub name: String,
    /// What is in it.
    pub bytes: Vec<u8>,
    /// Where it stands.
    pub place: (u32, u32),
}

impl DiskImage {
    /// Room below a symbol for its name, points.
    pub const LABEL: u32 = 24;

    /// The usual one of a size: both symbols a little above the middle, because names stand below them.
    pub fn of_size(size: (u32, u32)) -> Self {
        let line = (size.1 / 2).saturating_sub(Self::LABEL / 2);
        Self {
            size,
            icon: 128,
            text: 13,
            program: (size.0 / 4, line),
            applications: (size.0 - size.0 / 4, line),
            volume_name: None,
            background: None,
            words: Words::None,
            files: Vec::new(),
        }
    }
}

impl Default for DiskImage {
    fn default() -> Self {
        Self::of_size((640, 400))
    }
}

/// Where a source comes from.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Origin {
    /// An address: `https://`, `http://` or `file://`.
    Address(String),
    /// A file on this machine.
    File(std::path::PathBuf),
}

/// Something that a layer is made of and that lies elsewhere.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Source {
    /// Its name in the manifest.
    pub key: String,
    /// Where it comes from.
    pub origin: Origin,
    /// SHA-256 of its file, in small hexadecimal digits; always there for an address.
    pub sha256: Option<String>,
    /// Its keys in the manifest, as problems name them.
    pub setting: String,
}
