//! The manifest of a package for Windows' own installer (`AppxManifest.xml`), read: who it is, what it starts, what it wants.
//!
//! Source: Microsoft's published schema of package manifests.

use crate::xml::referred;
use quick_xml::Reader;
use quick_xml::events::{BytesStart, Event};

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
    /// Other packages that it needs.
    pub dependencies: Vec<String>,
    /// The packages in a bundle.
    pub packages: Vec<String>,
}

/// Something that is started.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct Application {
    /// Its name within the package.
    pub id: String,
    /// Its program, with slashes.
    pub executable: Option<String>,
}

fn attribute(element: &BytesStart, name: &str) -> Result<Option<String>, String> {
    let found = element.try_get_attribute(name).map_err(|e| e.to_string())?;
    found.map(|text| text.unescape_value().map(|text| text.into_owned()).map_err(|e| e.to_string())).transpose()
}

impl AppManifest {
    /// Reads a manifest, of a package or of a bundle.
    ///
    /// # Errors
    /// It is no XML, or names no package.
    pub fn read(bytes: &[u8]) -> Result<Self, String> {
        let mut reader = Reader::from_reader(bytes);
        let mut own = Self::default();
        let (mut path, mut text) = (Vec::<Vec<u8>>::new(), String::new());
        loop {
            match reader.read_event().map_err(|e| e.to_string())? {
                Event::Start(element) => {
                    own.element(&element)?;
                    path.push(element.local_name().as_ref().to_vec());
                    text.clear();
                }
                Event::Empty(element) => own.element(&element)?,
                Event::Text(part) => text += &part.decode().map_err(|e| e.to_string())?,
                Event::GeneralRef(reference) => text += &referred(&reference),
                Event::End(_) => {
                    let name = path.pop().unwrap_or_default();
                    if path.last().is_some_and(|above| above == b"Properties") {
                        let said = Some(text.trim().to_owned()).filter(|text| !text.is_empty());
                        match &name[..] {
                            b"DisplayName" => own.title = said,
                            b"PublisherDisplayName" => own.publisher_title = said,
                            b"Description" => own.description = said,
                            _ => {}
                        }
                    }
                    text.clear();
                }
                Event::Eof => break,
                _ => {}
            }
        }
        if own.name.is_empty() || own.publisher.is_empty() {
            return Err("it names no package".into());
        }
        Ok(own)
    }

    fn element(&mut self, element: &BytesStart) -> Result<(), String> {
        let get = |name: &str| attribute(element, name);
        let need = |name: &str| Ok::<_, String>(get(name)?.unwrap_or_default());
        match element.local_name().as_ref() {
            b"Identity" => {
                (self.name, self.publisher, self.version) = (need("Name")?, need("Publisher")?, need("Version")?);
                self.processor = get("ProcessorArchitecture")?;
            }
            b"Application" => {
                let executable = get("Executable")?.map(|path| path.replace('\\', "/"));
                self.applications.push(Application { id: need("Id")?, executable });
            }
            b"Capability" | b"DeviceCapability" | b"CustomCapability" => self.capabilities.push(need("Name")?),
            b"TargetDeviceFamily" => {
                self.systems.push([need("Name")?, need("MinVersion")?, need("MaxVersionTested")?]);
            }
            b"PackageDependency" => self.dependencies.push(need("Name")?),
            b"Package" => self.packages.extend(get("FileName")?),
            _ => {}
        }
        Ok(())
    }
}

/// Whether two texts name the same subject: attributes in their order, whatever stands between them, and however values are
/// quoted (RFC 4514, 2.4 and 3).
pub(crate) fn is_same_subject(one: &str, other: &str) -> bool {
    attributes(one).is_some_and(|own| Some(own) == attributes(other))
}

/// The attributes of a subject; nothing where a quote or an escape does not end.
fn attributes(text: &str) -> Option<Vec<(String, String)>> {
    let (mut all, mut part, mut quoted) = (vec![String::new()], text.chars().peekable(), false);
    while let Some(letter) = part.next() {
        let last = all.last_mut()?;
        match letter {
            '\\' => last.extend(['\\', part.next()?]),
            '"' if quoted && part.peek() == Some(&'"') => last.extend(part.next()),
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
            other => other.to_owned(),
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
