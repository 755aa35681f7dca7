//! The platforms that packages are made for, and how a manifest selects among them.

use serde::{Deserialize, Serialize};
use std::fmt;
use std::str::FromStr;

/// An operating system and a processor.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Platform {
    /// Windows on 64-bit Intel and AMD processors.
    WindowsX64,
    /// Windows on 32-bit Intel and AMD processors.
    WindowsX86,
    /// Windows on 64-bit ARM processors.
    WindowsArm64,
    /// macOS on Apple's own processors.
    MacosArm64,
    /// macOS on Intel processors.
    MacosX64,
    /// macOS programs that hold code for both.
    MacosUniversal,
    /// Linux on 64-bit Intel and AMD processors.
    LinuxX64,
    /// Linux on 64-bit ARM processors.
    LinuxArm64,
}

/// An operating system.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum System {
    /// Windows.
    Windows,
    /// macOS.
    Macos,
    /// Linux.
    Linux,
}

impl Platform {
    /// All of them.
    pub const ALL: [Self; 8] = [
        Self::WindowsX64,
        Self::WindowsX86,
        Self::WindowsArm64,
        Self::MacosArm64,
        Self::MacosX64,
        Self::MacosUniversal,
        Self::LinuxX64,
        Self::LinuxArm64,
    ];

    /// Its name in manifests and file names.
    pub fn name(self) -> &'static str {
        match self {
            Self::WindowsX64 => "windows-x64",
            Self::WindowsX86 => "windows-x86",
            Self::WindowsArm64 => "windows-arm64",
            Self::MacosArm64 => "macos-arm64",
            Self::MacosX64 => "macos-x64",
            Self::MacosUniversal => "macos-universal",
            Self::LinuxX64 => "linux-x64",
            Self::LinuxArm64 => "linux-arm64",
        }
    }

    /// Its operating system.
    pub fn system(self) -> System {
        match self {
            Self::WindowsX64 | Self::WindowsX86 | Self::WindowsArm64 => System::Windows,
            Self::MacosArm64 | Self::MacosX64 | Self::MacosUniversal => System::Macos,
            Self::LinuxX64 | Self::LinuxArm64 => System::Linux,
        }
    }

    /// The processor's name as Linux's `uname` and many file names have it.
    pub fn machine(self) -> &'static str {
        match self {
            Self::WindowsX64 | Self::MacosX64 | Self::LinuxX64 => "x86_64",
            Self::WindowsX86 => "i686",
            Self::WindowsArm64 | Self::MacosArm64 | Self::LinuxArm64 => "aarch64",
            Self::MacosUniversal => "universal",
        }
    }
}

impl System {
    /// The system that this program runs on.
    pub fn here() -> Self {
        if cfg!(windows) {
            Self::Windows
        } else if cfg!(target_os = "macos") {
            Self::Macos
        } else {
            Self::Linux
        }
    }

    /// Its name as people write it.
    pub fn title(self) -> &'static str {
        match self {
            Self::Windows => "Windows",
            Self::Macos => "macOS",
            Self::Linux => "Linux",
        }
    }

    /// Its name in manifests.
    pub fn name(self) -> &'static str {
        match self {
            Self::Windows => "windows",
            Self::Macos => "macos",
            Self::Linux => "linux",
        }
    }
}

impl fmt::Display for Platform {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.name())
    }
}

impl FromStr for Platform {
    type Err = String;
    fn from_str(name: &str) -> Result<Self, String> {
        Self::ALL.into_iter().find(|p| p.name() == name).ok_or_else(|| match meant(name)[..] {
            [] => format!("unknown platform {name:?}"),
            ref all => format!("unknown platform {name:?}; did you mean {}?", all.join(" or ")),
        })
    }
}

/// The platforms and systems that people mean who write other names of systems and processors: `linux-amd64`, `x86_64`,
/// `darwin`. Nothing for a name that says neither.
pub fn meant(name: &str) -> Vec<&'static str> {
    let name = name.to_lowercase().replace("x86_64", "x64").replace("x86-64", "x64");
    let (mut system, mut processor) = (None, None);
    for word in name.split(|c: char| !c.is_ascii_alphanumeric()) {
        match word {
            "linux" | "gnu" | "musl" => system = Some(System::Linux),
            "windows" | "win" | "mswin" | "msvc" => system = Some(System::Windows),
            "win32" => (system, processor) = (Some(System::Windows), processor.or(Some("x86"))),
            "win64" => (system, processor) = (Some(System::Windows), processor.or(Some("x64"))),
            "macos" | "mac" | "darwin" | "osx" | "apple" => system = Some(System::Macos),
            "x64" | "amd64" => processor = Some("x64"),
            "x86" | "i386" | "i486" | "i586" | "i686" | "386" => processor = Some("x86"),
            "arm64" | "aarch64" => processor = Some("arm64"),
            "universal" | "universal2" | "fat" => processor = Some("universal"),
            _ => {}
        }
    }
    let fits = |p: &Platform| {
        let of = p.name().rsplit('-').next();
        system.is_none_or(|s| p.system() == s) && of == processor
    };
    match (system, processor) {
        (None, None) => Vec::new(),
        (Some(system), None) => vec![system.name()],
        _ => Platform::ALL.iter().filter(|p| fits(p)).map(|p| p.name()).collect(),
    }
}

/// A name that stands for one platform or for all platforms of a system: `linux-arm64`, `linux`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Selector {
    /// All platforms of a system.
    System(System),
    /// One platform.
    Platform(Platform),
}

impl Selector {
    /// All names that a selector can have.
    pub fn names() -> impl Iterator<Item = &'static str> {
        let systems = [System::Windows, System::Macos, System::Linux].map(System::name);
        systems.into_iter().chain(Platform::ALL.map(Platform::name))
    }

    /// Whether it stands for this platform.
    pub fn fits(self, platform: Platform) -> bool {
        match self {
            Self::System(system) => platform.system() == system,
            Self::Platform(one) => platform == one,
        }
    }
}

impl FromStr for Selector {
    type Err = String;
    fn from_str(name: &str) -> Result<Self, String> {
        let system = [System::Windows, System::Macos, System::Linux].into_iter().find(|s| s.name() == name);
        system.map(Self::System).map_or_else(|| name.parse().map(Self::Platform), Ok)
    }
}

impl schemars::JsonSchema for Selector {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "Selector".into()
    }
    fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
        schemars::json_schema!({
            "description": "A platform (`linux-x64`) or all platforms of a system (`linux`).",
            "type": "string",
            "enum": Self::names().collect::<Vec<_>>(),
        })
    }
}

impl<'de> Deserialize<'de> for Selector {
    fn deserialize<D: serde::Deserializer<'de>>(d: D) -> Result<Self, D::Error> {
        String::deserialize(d)?.parse().map_err(serde::de::Error::custom)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_from_elsewhere_mean_our_platforms() {
        for (name, platforms) in [
            ("linux-amd64", &["linux-x64"][..]),
            ("Linux_x86_64", &["linux-x64"]),
            ("x86_64-unknown-linux-musl", &["linux-x64"]),
            ("aarch64-unknown-linux-gnu", &["linux-arm64"]),
            ("win64", &["windows-x64"]),
            ("win32", &["windows-x86"]),
            ("win32-x64", &["windows-x64"]),
            ("i686-pc-windows-msvc", &["windows-x86"]),
            ("aarch64-pc-windows-msvc", &["windows-arm64"]),
            ("darwin-aarch64", &["macos-arm64"]),
            ("osx-x64", &["macos-x64"]),
            ("macos-universal2", &["macos-universal"]),
            ("darwin", &["macos"]),
            ("Windows", &["windows"]),
            ("amd64", &["windows-x64", "macos-x64", "linux-x64"]),
            ("arm64", &["windows-arm64", "macos-arm64", "linux-arm64"]),
            ("amiga", &[]),
            ("", &[]),
        ] {
            assert_eq!(meant(name), platforms, "{name}");
        }
    }

    #[test]
    fn every_name_stands_for_one_platform_and_every_selector_fits_some() {
        for platform in Platform::ALL {
            assert_eq!(platform.name().parse::<Platform>().ok(), Some(platform));
            let fitting =
                Selector::names().filter(|name| name.parse::<Selector>().is_ok_and(|selector| selector.fits(platform)));
            assert_eq!(fitting.count(), 2, "{platform}: its own name and its system's");
        }
    }
}
