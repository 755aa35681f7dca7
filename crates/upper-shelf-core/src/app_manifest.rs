//! The manifest of a package for Windows' own installer (`AppxManifest.xml`), read: who it is, what it starts, what it wants.
//!
//! Source: Microsoft's published schema of package manifests.

use crate::xml::{Element, Namespaces};
use std::collections::BTreeMap;

/// The namespaces of manifests, with the prefixes that names have here.
pub(crate) const NAMESPACES: &Namespaces = &[
    ("", "http://schemas.microsoft.com/appx/manifest/foundation/windows10"),
    ("build", "http://schemas.microsoft.com/developer/appx/2015/build"),
    ("desktop", "http://schemas.microsoft.com/appx/manifest/desktop/windows10"),
    ("desktop4", "http://schemas.microsoft.com/appx/manifest/desktop/windows10/4"),
    ("desktop6", "http://schemas.microsoft.com/appx/manifest/desktop/windows10/6"),
    ("desktop7", "http://schemas.microsoft.com/appx/manifest/desktop/windows10/7"),
    ("rescap", "http://schemas.microsoft.com/appx/manifest/foundation/windows10/restrictedcapabilities"),
    ("uap", "http://schemas.microsoft.com/appx/manifest/uap/windows10"),
    ("uap3", "http://schemas.microsoft.com/appx/manifest/uap/windows10/3"),
    ("uap4", "http://schemas.microsoft.com/appx/manifest/uap/windows10/4"),
    ("uap5", "http://schemas.microsoft.com/appx/manifest/uap/windows10/5"),
    ("uap6", "http://schemas.microsoft.com/appx/manifest/uap/windows10/6"),
    ("uap7", "http://schemas.microsoft.com/appx/manifest/uap/windows10/7"),
];

/// What a manifest says.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct AppManifest {
    /// The package's name.
    pub name: String,
    /// The subject of the certificate that signs it.
    pub publisher: String,
    /// Four numbers.
    pub version: String,
    /// `x64`, `x86`, `arm64`, `neutral`.
    pub processor: Option<String>,
    /// The name that people read.
    pub title: Option<String>,
    /// The publisher's name that people read.
    pub publisher_title: Option<String>,
    /// What it does.
    pub description: Option<String>,
    /// What people start.
    pub applications: Vec<Application>,
    /// What it may do.
    pub capabilities: Vec<String>,
    /// The systems that it is for: name, smallest version, tested version.
    pub systems: Vec<[String; 3]>,
    /// Other packages that it needs: their names and smallest versions.
    pub dependencies: Vec<(String, String)>,
    /// The packages in a bundle.
    pub packages: Vec<String>,
    /// What the tool that made it says besides, by names.
    pub said: BTreeMap<String, String>,
}

/// Something that is started.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct Application {
    /// Its name within the package.
    pub id: String,
    /// Its program, with slashes.
    pub executable: Option<String>,
    /// The name that people read.
    pub title: Option<String>,
    /// What it does.
    pub description: Option<String>,
    /// Whether it has an entry in the menu of programs.
    pub is_listed: bool,
    /// Whether it needs a terminal.
    pub console: bool,
    /// What it is for the system besides.
    pub extensions: Vec<Extension>,
}

/// What an application is for the system besides.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Extension {
    /// Opens files: the name that people read; endings with their dots, and media types.
    FileType { title: Option<String>, endings: Vec<(String, Option<String>)> },
    /// Opens links.
    Scheme(String),
    /// Is started when the user logs in: the name that people read.
    Startup(String),
    /// Is started by names at a command prompt.
    Aliases(Vec<String>),
    /// Has a shortcut, with its file, arguments and description.
    Shortcut { file: String, arguments: String, description: Option<String> },
    /// Runs without anybody logged in.
    Service { name: String, start: String, account: String, arguments: String },
    /// Fonts for all programs: their files, with slashes.
    Fonts(Vec<String>),
}

fn owned(element: &Element, name: &str) -> String {
    element.get(name).unwrap_or_default().to_owned()
}

fn with_slashes(path: &str) -> String {
    path.replace('\\', "/")
}

impl AppManifest {
    /// Reads a manifest, of a package or of a bundle.
    ///
    /// # Errors
    /// It is no XML, or names no package.
    pub fn read(bytes: &[u8]) -> Result<Self, String> {
        Self::of(&Element::read(bytes, NAMESPACES)?)
    }

    /// What a manifest says that was read.
    ///
    /// # Errors
    /// It names no package.
    pub fn of(root: &Element) -> Result<Self, String> {
        let mut own = Self::default();
        if let Some(identity) = root.first("Identity") {
            let get = |name: &str| owned(identity, name);
            (own.name, own.publisher, own.version) = (get("Name"), get("Publisher"), get("Version"));
            own.processor = identity.get("ProcessorArchitecture").map(str::to_owned);
        }
        if own.name.is_empty() || own.publisher.is_empty() {
            return Err("it names no package".into());
        }
        let within = |list: &'static str| root.all(list).flat_map(|list| &list.children);
        for property in within("Properties") {
            let said = Some(property.text.clone()).filter(|text| !text.is_empty());
            match property.local() {
                "DisplayName" => own.title = said,
                "PublisherDisplayName" => own.publisher_title = said,
                "Description" => own.description = said,
                _ => {}
            }
        }
        own.applications = within("Applications").filter(|e| e.local() == "Application").map(Application::of).collect();
        let is_capability = |e: &&Element| e.local().ends_with("Capability");
        own.capabilities = within("Capabilities").filter(is_capability).map(|e| owned(e, "Name")).collect();
        for needed in within("Dependencies") {
            match needed.local() {
                "TargetDeviceFamily" => {
                    own.systems.push(["Name", "MinVersion", "MaxVersionTested"].map(|name| owned(needed, name)));
                }
                "PackageDependency" => own.dependencies.push((owned(needed, "Name"), owned(needed, "MinVersion"))),
                _ => {}
            }
        }
        own.packages = within("Packages").filter_map(|e| e.get("FileName")).map(str::to_owned).collect();
        own.said = within("Metadata").map(|item| (owned(item, "Name"), owned(item, "Value"))).collect();
        Ok(own)
    }

    /// What the tool that made it says of something.
    pub fn said(&self, name: &str) -> Option<&str> {
        self.said.get(name).map(String::as_str)
    }
}

impl Application {
    fn of(element: &Element) -> Self {
        let visible = element.first("VisualElements");
        let shown = |name: &str| visible.and_then(|e| e.get(name)).map(str::to_owned);
        let extensions = element.all("Extensions").flat_map(|list| &list.children);
        Self {
            id: owned(element, "Id"),
            executable: element.get("Executable").map(with_slashes),
            title: shown("DisplayName"),
            description: shown("Description"),
            is_listed: visible.is_some() && shown("AppListEntry").as_deref() != Some("none"),
            console: element.get("desktop4:Subsystem") == Some("console"),
            extensions: extensions.filter_map(Extension::of).collect(),
        }
    }
}

impl Extension {
    fn of(extension: &Element) -> Option<Self> {
        let inner = extension.children.first()?;
        let text = |name: &str| inner.first(name).map(|e| e.text.clone()).filter(|text| !text.is_empty());
        Some(match (extension.get("Category")?, inner.local()) {
            ("windows.fileTypeAssociation", "FileTypeAssociation") => {
                let kinds = inner.all("SupportedFileTypes").flat_map(|list| &list.children);
                let endings = kinds.map(|kind| (kind.text.clone(), kind.get("ContentType").map(str::to_owned)));
                Self::FileType { title: text("DisplayName"), endings: endings.collect() }
            }
            ("windows.protocol", "Protocol") => Self::Scheme(owned(inner, "Name")),
            ("windows.startupTask", "StartupTask") => Self::Startup(owned(inner, "DisplayName")),
            ("windows.appExecutionAlias", "AppExecutionAlias") => {
                Self::Aliases(inner.children.iter().map(|alias| owned(alias, "Alias")).collect())
            }
            ("windows.shortcut", "Shortcut") => Self::Shortcut {
                file: owned(inner, "File"),
                arguments: owned(inner, "Arguments"),
                description: inner.get("Description").map(str::to_owned),
            },
            ("windows.service", "Service") => Self::Service {
                name: owned(inner, "Name"),
                start: owned(inner, "StartupType"),
                account: owned(inner, "StartAccount"),
                arguments: owned(inner, "Arguments"),
            },
            ("windows.sharedFonts", "SharedFonts") => {
                Self::Fonts(inner.children.iter().map(|font| with_slashes(&owned(font, "File"))).collect())
            }
            _ => return None,
        })
    }
}

/// Whether two texts name the same subject: attributes in their order, whatever stands between them, and however values are
/// quoted (RFC 4514, 2.4 and 3).
pub(crate) fn is_same_subject(one: &str, other: &str) -> bool {
    attributes(one).is_some_and(|own| Some(own) == attributes(other))
}

/// A subject as manifests name it: as Windows shows it, with a blank behind each comma and values in quotes where they need them.
///
/// Source: the documentation of `CertNameToStr` (`CERT_X500_NAME_STR`).
pub(crate) fn subject_for_manifest(subject: &str) -> String {
    let parts = attributes(subject).unwrap_or_default().into_iter().map(|(name, value)| {
        let name = match name.as_str() {
            "ST" => "S".to_owned(),
            "EMAILADDRESS" => "E".to_owned(),
            other if other.starts_with(|c: char| c.is_ascii_digit()) => format!("OID.{other}"),
            other => other.to_owned(),
        };
        let mut plain = String::new();
        let mut letters = value.chars();
        while let Some(letter) = letters.next() {
            plain.extend(if letter == '\\' { letters.next() } else { Some(letter) });
        }
        let is_plain = !plain.contains([',', '+', '=', '"', '\n', '<', '>', '#', ';']) && plain.trim() == plain;
        let value = if is_plain { plain } else { format!("\"{}\"", plain.replace('"', "\"\"")) };
        format!("{name}={value}")
    });
    parts.collect::<Vec<_>>().join(", ")
}

/// The attributes of a subject; nothing where a quote or an escape does not end.
fn attributes(text: &str) -> Option<Vec<(String, String)>> {
    let (mut all, mut part, mut quoted) = (vec![String::new()], text.chars().peekable(), false);
    while let Some(letter) = part.next() {
        let last = all.last_mut()?;
        match letter {
            '\\' => last.extend(['\\', part.next()?]),
            '"' if quoted && part.peek() == Some(&'"') => {
                part.next();
                last.push_str("\\\"");
            }
            '"' => quoted = !quoted,
            ',' if !quoted => all.push(String::new()),
            // What is quoted needs no escapes.
            ',' | '+' | ';' | '<' | '>' if quoted => last.extend(['\\', letter]),
            other => last.push(other),
        }
    }
    let split = |part: &String| {
        let (name, value) = part.split_once('=')?;
        // The names of one attribute that readers have.
        let name = match name.trim().to_uppercase().as_str() {
            "S" => "ST".to_owned(),
            "E" | "1.2.840.113549.1.9.1" => "EMAILADDRESS".to_owned(),
            other => other.trim_start_matches("OID.").to_owned(),
        };
        Some((name, value.trim().to_owned()))
    };
    if quoted { None } else { all.iter().map(split).collect() }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_manifest_says_who_it_is_and_what_it_starts() {
        let text = r#"<?xml version="1.0"?><Package xmlns="x" xmlns:uap="y" xmlns:rescap="z">
            <Identity Name="works.fernhollow.hive" Publisher="CN=Fern &amp; Hollow" Version="1.2.3.0" ProcessorArchitecture="x64"/>
            <Properties><DisplayName>Hive &amp; Comb</DisplayName><PublisherDisplayName>Fernhollow</PublisherDisplayName></Properties>
            <Dependencies><TargetDeviceFamily Name="Windows.Desktop" MinVersion="10.0.17763.0" MaxVersionTested="10.0.22621.0"/></Dependencies>
            <Applications><Application Id="App" Executable="bin\hive.exe"><uap:VisualElements DisplayName="x"/></Application></Applications>
            <Capabilities><rescap:Capability Name="runFullTrust"/></Capabilities></Package>"#;
        let read = AppManifest::read(text.as_bytes()).expect("a manifest");
        assert_eq!((read.title.as_deref(), read.publisher.as_str()), (Some("Hive & Comb"), "CN=Fern & Hollow"));
        assert_eq!(read.applications[0].executable.as_deref(), Some("bin/hive.exe"));
        assert_eq!((read.capabilities, read.systems[0][1].as_str()), (vec!["runFullTrust".to_owned()], "10.0.17763.0"));
        for bad in ["", "<Package/>", "<Package><Identity Name='a'", "hello"] {
            assert!(AppManifest::read(bad.as_bytes()).is_err(), "{bad}");
        }
    }

    #[test]
    fn a_subject_is_written_as_windows_shows_it() {
        for (subject, expected) in [
            ("CN=Fernhollow,O=Fernhollow,C=AT", "CN=Fernhollow, O=Fernhollow, C=AT"),
            (r"CN=Fern\, Hollow,ST=Styria", r#"CN="Fern, Hollow", S=Styria"#),
            (r#"CN=The \"Hive\""#, r#"CN="The ""Hive""""#),
            (r"CN=a\+b\;c", r#"CN="a+b;c""#),
            ("CN=a,2.5.4.97=NTRAT-1", "CN=a, OID.2.5.4.97=NTRAT-1"),
            ("emailAddress=bees@fernhollow.example", "E=bees@fernhollow.example"),
        ] {
            let own = subject_for_manifest(subject);
            assert_eq!(own, expected);
            assert!(is_same_subject(&own, subject), "{own} and {subject}");
        }
    }

    #[test]
    fn subjects_are_the_same_however_they_are_written() {
        for (one, other, same) in [
            ("CN=Fernhollow,O=Fernhollow,C=AT", "CN=Fernhollow, O=Fernhollow, C=AT", true),
            (r"CN=Fern\, Hollow", r#"CN="Fern, Hollow""#, true),
            ("CN=a,S=b", "cn=a, ST=b", true),
            ("CN=a,O=b", "O=b,CN=a", false),
            ("CN=a", "CN=A", false),
            ("CN=\"a", "CN=\"a", false),
            ("nothing", "nothing", false),
        ] {
            assert_eq!(is_same_subject(one, other), same, "{one} and {other}");
        }
    }
}
