//! The manifest of a package, written from a footprint.
//!
//! Source: Microsoft's published schema of package manifests; `rules.txt` has what of it is checked.

use super::carry::{account, one_line};
use super::permissions::capability;
use super::{declared, icons};
use crate::app_manifest::NAMESPACES;
use crate::command_line::command_line;
use crate::footprint::{
    Command, FileType, Font, Footprint, LinkScheme, Place, Program, RelPath, Service, ServiceStart, Shortcut, Text,
};
use crate::platform::Platform;
use crate::targets::Job;
use crate::xml::Element;
use std::collections::BTreeMap;

/// Items with the product's own id and version, and the version as Windows compares it.
pub const ID: &str = "upper-shelf.id";
pub const VERSION: &str = "upper-shelf.version";
/// Items with keys of programs begin so, with the application's name behind it.
pub const PROGRAM: &str = "upper-shelf.program.";

/// How programs of the desktop are started.
const FULL_TRUST: &str = "Windows.FullTrustApplication";
/// What a program is started with that opens something.
const OPENED: &str = "\"%1\"";

/// The version as Windows compares it: four numbers.
///
/// # Errors
/// Why it can't be one, as the end of a sentence.
pub fn version(version: &str) -> Result<String, String> {
    let parts: Vec<&str> = version.split('.').collect();
    if parts.len() > 4 {
        return Err(format!("it has {} numbers, and Windows compares four", parts.len()));
    }
    let mut numbers = [0u16; 4];
    for (number, part) in numbers.iter_mut().zip(&parts) {
        let is_number = !part.is_empty() && part.bytes().all(|b| b.is_ascii_digit());
        if !is_number || part.len() > 1 && part.starts_with('0') {
            return Err("it must be one to four whole numbers separated by dots".into());
        }
        *number = part.parse().map_err(|_| format!("{part} is more than {}, the largest number", u16::MAX))?;
    }
    Ok(numbers.map(|number| number.to_string()).join("."))
}

/// The name of the package: the product's id with the letters that such names have.
pub fn name(job: &Job) -> String {
    let own = || job.footprint.product.id.clone().unwrap_or_default();
    let stated = job.settings.msix.name.clone();
    stated.unwrap_or_else(|| {
        let is_plain = |c: char| c.is_ascii_alphanumeric() || c == '-' || c == '.';
        own().chars().map(|c| if is_plain(c) { c } else { '-' }).collect()
    })
}

/// The subject of the certificate that signs it.
pub fn publisher(job: &Job) -> String {
    job.settings.msix.publisher.clone().unwrap_or_else(|| "CN=Nobody".into())
}

/// The version of the package as the system compares it.
pub fn package_version(job: &Job) -> String {
    let stated = job.settings.msix.version.as_deref().or(job.footprint.product.version.as_deref());
    version(stated.unwrap_or_default()).unwrap_or_else(|_| "0.0.0.0".into())
}

/// The processor, as the schema calls it.
pub fn processor(platform: Option<Platform>) -> &'static str {
    match platform {
        Some(Platform::WindowsX86) => "x86",
        Some(Platform::WindowsArm64) => "arm64",
        _ => "x64",
    }
}

/// Names of applications by the keys of programs: letters and digits, each one once.
pub fn names(programs: &[Program]) -> BTreeMap<&str, String> {
    let mut all: BTreeMap<&str, String> = BTreeMap::new();
    for program in programs {
        let words = program.key.split(|c: char| !c.is_ascii_alphanumeric()).filter(|word| !word.is_empty());
        let mut name: String = words.map(|word| word[..1].to_uppercase() + &word[1..]).collect();
        if !name.starts_with(|c: char| c.is_ascii_alphabetic()) {
            name.insert_str(0, "App");
        }
        name.truncate(56);
        let is_taken = |name: &str| all.values().any(|other| other.eq_ignore_ascii_case(name));
        let plain = name.clone();
        for n in 2.. {
            if !is_taken(&name) {
                break;
            }
            name = format!("{plain}{n}");
        }
        all.insert(&program.key, name);
    }
    all
}

fn with_backslashes(path: &RelPath) -> String {
    path.as_str().replace('/', "\\")
}

/// The manifest as a tree.
pub fn tree(job: &Job) -> Element {
    let footprint = job.footprint;
    let product = &footprint.product;
    let text = |text: &Option<String>| text.clone().unwrap_or_default();
    let identity = Element::new("Identity")
        .with("Name", name(job))
        .with("Publisher", publisher(job))
        .with("Version", package_version(job))
        .with("ProcessorArchitecture", processor(footprint.platform));
    let mut properties = Element::new("Properties")
        .holding(Element::text("DisplayName", &text(&product.name)))
        .holding(Element::text("PublisherDisplayName", &text(&product.publisher)));
    if let Some(summary) = &product.summary {
        properties = properties.holding(Element::text("Description", summary.as_str()));
    }
    let properties = properties.holding(Element::text("Logo", &icons::LOGO.name.replace('/', "\\")));
    let languages = job.settings.msix.languages.iter();
    let languages = languages.map(|language| Element::new("Resource").with("Language", language.as_str()));
    let oldest = footprint.install.minimum_windows.and_then(|version| version.patch).unwrap_or(super::carry::OLDEST);
    let tested = job.settings.msix.tested_windows.max(oldest);
    let system = Element::new("TargetDeviceFamily")
        .with("Name", "Windows.Desktop")
        .with("MinVersion", format!("10.0.{oldest}.0"))
        .with("MaxVersionTested", format!("10.0.{tested}.0"));
    let frameworks = job.settings.msix.frameworks.iter().map(declared::dependency);
    let needed = std::iter::once(system).chain(frameworks).collect();
    let mut root = Element::new("Package")
        .holding(identity)
        .holding(properties)
        .holding(Element { children: needed, ..Element::new("Dependencies") })
        .holding(Element { children: languages.collect(), ..Element::new("Resources") });
    let names = names(&footprint.programs);
    let applications: Vec<Element> =
        footprint.programs.iter().enumerate().map(|(n, program)| application(job, program, n == 0, &names)).collect();
    if !applications.is_empty() {
        root = root.holding(Element { children: applications, ..Element::new("Applications") });
    }
    root = root.holding(Element {
        children: capabilities(footprint, &job.settings.msix.capabilities),
        ..Element::new("Capabilities")
    });
    root.holding(said(footprint, &names))
}

/// What the schema has no place for.
fn said(footprint: &Footprint, names: &BTreeMap<&str, String>) -> Element {
    let item = |name: &str, value: &str| Element::new("build:Item").with("Name", name).with("Value", value);
    let product = &footprint.product;
    let mut items = Vec::new();
    items.push(item(ID, product.id.as_deref().unwrap_or_default()));
    items.push(item(VERSION, product.version.as_deref().unwrap_or_default()));
    items.extend(names.iter().map(|(key, name)| item(&format!("{PROGRAM}{name}"), key)));
    Element { children: items, ..Element::new("build:Metadata") }
}

/// What the package may do: programs of the desktop do what their user may, and say what they want. Elements without a prefix come
/// first, devices last: in the schema that is a sequence.
fn capabilities(footprint: &Footprint, further: &[String]) -> Vec<Element> {
    let mut all: Vec<(&str, &str)> = vec![("rescap:Capability", "runFullTrust")];
    if !footprint.services.is_empty() {
        all.push(("rescap:Capability", "packagedServices"));
    }
    if footprint.services.iter().any(|service| account(service.account.as_deref()) == Some("localSystem")) {
        all.push(("rescap:Capability", "localSystemServices"));
    }
    let wanted = footprint.permissions.iter().filter_map(|permission| capability(permission.access));
    all.extend(wanted.map(|own| (own.element, own.name)));
    all.extend(further.iter().filter_map(|stated| declared::capability(stated)));
    all.sort_by_key(|(element, name)| (declared::order(element), *name));
    all.dedup();
    all.into_iter().map(|(element, name)| Element::new(element).with("Name", name)).collect()
}

fn application(job: &Job, program: &Program, is_first: bool, names: &BTreeMap<&str, String>) -> Element {
    let footprint = job.footprint;
    let key = program.key.as_str();
    let of_program = |place: Place| footprint.shortcuts.iter().filter(move |s| s.program == key && s.place == place);
    let file = with_backslashes(&program.file);
    let mut application = Element::new("Application")
        .with("Id", names.get(key).cloned().unwrap_or_default())
        .with("Executable", &file)
        .with("EntryPoint", FULL_TRUST);
    if program.console {
        application =
            application.with("desktop4:Subsystem", "console").with("desktop4:SupportsMultipleInstances", "true");
    }
    let listed = of_program(Place::Menu).next();
    let own = footprint.product.name.clone().unwrap_or_default();
    let title = listed.map_or_else(|| own.clone(), |shortcut| shortcut.name.as_str().to_owned());
    let description = listed.and_then(|shortcut| shortcut.description.as_ref()).map(|text| text.as_str().to_owned());
    let mut visible = Element::new("uap:VisualElements")
        .with("DisplayName", &title)
        .with("Description", description.unwrap_or_else(|| title.clone()))
        .with("BackgroundColor", "transparent")
        .with("Square150x150Logo", icons::MIDDLE.name.replace('/', "\\"))
        .with("Square44x44Logo", icons::SMALL.name.replace('/', "\\"));
    if listed.is_none() {
        visible = visible.with("AppListEntry", "none");
    }
    application = application.holding(visible);
    let mut extensions = Vec::new();
    extensions.extend(footprint.file_types.iter().filter(|kind| kind.program == key).map(file_type));
    extensions.extend(footprint.link_schemes.iter().filter(|link| link.program == key).map(|link| scheme(link, &own)));
    for shortcut in of_program(Place::Startup) {
        let task = Element::new("desktop:StartupTask")
            .with("TaskId", format!("{}Startup", names.get(key).cloned().unwrap_or_default()))
            .with("Enabled", "true")
            .with("DisplayName", shortcut.name.as_str());
        extensions.push(
            extension("desktop", "windows.startupTask")
                .with("Executable", &file)
                .with("EntryPoint", FULL_TRUST)
                .holding(task),
        );
    }
    let commands: Vec<&Command> = footprint.commands.iter().filter(|command| command.program == key).collect();
    if !commands.is_empty() {
        extensions.push(aliases(&commands, &file));
    }
    extensions.extend(of_program(Place::Desktop).map(|shortcut| on_desktop(shortcut, &file)));
    extensions.extend(footprint.services.iter().filter(|service| service.program == key).map(|s| service(s, &file)));
    if is_first && !footprint.fonts.is_empty() {
        extensions.push(fonts(&footprint.fonts));
    }
    if !extensions.is_empty() {
        application = application.holding(Element { children: extensions, ..Element::new("Extensions") });
    }
    application
}

fn extension(prefix: &str, category: &str) -> Element {
    Element::new(&format!("{prefix}:Extension")).with("Category", category)
}

fn file_type(kind: &FileType) -> Element {
    let FileType { mime, extensions, name, program: _ } = kind;
    let kinds = extensions.iter().map(|extension| Element {
        text: format!(".{extension}"),
        ..Element::new("uap:FileType").with("ContentType", mime)
    });
    // A name of its own within the package: small letters and digits.
    let plain = |c: char| if c.is_ascii_alphanumeric() { c.to_ascii_lowercase() } else { '-' };
    let first: String = extensions.first().into_iter().flat_map(|e| e.chars()).map(plain).collect();
    let own = format!("{first}.{}", &blake3::hash(mime.as_bytes()).to_hex()[..6]);
    extension("uap3", "windows.fileTypeAssociation").holding(
        Element::new("uap3:FileTypeAssociation")
            .with("Name", own)
            .with("Parameters", OPENED)
            .holding(Element::text("uap:DisplayName", name.as_str()))
            .holding(Element { children: kinds.collect(), ..Element::new("uap:SupportedFileTypes") }),
    )
}

fn scheme(link: &LinkScheme, title: &str) -> Element {
    extension("uap3", "windows.protocol").holding(
        Element::new("uap3:Protocol")
            .with("Name", &link.scheme)
            .with("Parameters", OPENED)
            .holding(Element::text("uap:DisplayName", title)),
    )
}

fn aliases(commands: &[&Command], file: &str) -> Element {
    let all = commands
        .iter()
        .map(|command| Element::new("uap5:ExecutionAlias").with("Alias", format!("{}.exe", one_line(&command.name))));
    let list = Element::new("uap5:AppExecutionAlias").with("desktop4:Subsystem", "console");
    extension("uap5", "windows.appExecutionAlias")
        .with("Executable", file)
        .with("EntryPoint", FULL_TRUST)
        .holding(Element { children: all.collect(), ..list })
}

fn on_desktop(shortcut: &Shortcut, file: &str) -> Element {
    let mut own = Element::new("desktop7:Shortcut")
        .with("File", format!("[{{Desktop}}]\\{}.lnk", shortcut.name.as_str()))
        .with("Icon", format!("[{{Package}}]\\{file}"));
    if !shortcut.arguments.is_empty() {
        own = own.with("Arguments", command_line(&shortcut.arguments));
    }
    if let Some(description) = &shortcut.description {
        own = own.with("Description", Text::as_str(description));
    }
    extension("desktop7", "windows.shortcut").holding(own)
}

/// What services are started by, in the words of the schema.
pub const STARTS: [(&str, ServiceStart); 3] =
    [("auto", ServiceStart::Automatic), ("manual", ServiceStart::OnDemand), ("disabled", ServiceStart::Disabled)];

fn service(service: &Service, file: &str) -> Element {
    let Service { name, arguments, start, account: own, .. } = service;
    let start = STARTS.iter().find(|(_, one)| one == start).map_or("manual", |(name, _)| *name);
    let mut inner = Element::new("desktop6:Service")
        .with("Name", name)
        .with("StartupType", start)
        .with("StartAccount", account(own.as_deref()).unwrap_or("localService"));
    if !arguments.is_empty() {
        inner = inner.with("Arguments", command_line(arguments));
    }
    extension("desktop6", "windows.service").with("Executable", file).with("EntryPoint", FULL_TRUST).holding(inner)
}

fn fonts(fonts: &[Font]) -> Element {
    let all = fonts.iter().map(|font| Element::new("uap4:Font").with("File", with_backslashes(&font.file)));
    extension("uap4", "windows.sharedFonts")
        .holding(Element { children: all.collect(), ..Element::new("uap4:SharedFonts") })
}

/// The manifest as bytes. Systems may pass over the namespaces that they don't know: what needs a newer Windows than the package is
/// left out by an older one. Of services this must not be; where there are some, the package requires a Windows that has them.
pub fn write(job: &Job) -> Vec<u8> {
    let mut root = tree(job);
    let mut used = Vec::new();
    root.prefixes(&mut used);
    used.retain(|prefix| prefix != "desktop6");
    used.sort();
    root.attributes.push(("IgnorableNamespaces".into(), used.join(" ")));
    root.write(NAMESPACES)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_version_is_four_numbers() {
        for (text, expected) in [("2.4", "2.4.0.0"), ("1", "1.0.0.0"), ("65535.0.1.2", "65535.0.1.2")] {
            assert_eq!(version(text).as_deref(), Ok(expected));
        }
        for text in ["", "1.2.3.4.5", "1.65536", "1.02", "1.-2", "1.2-beta", "1..2", "+1.2", "1.2 "] {
            assert!(version(text).is_err(), "{text}");
        }
    }

    #[test]
    fn each_program_has_a_name_of_its_own() {
        let keys = ["app", "nectar-map", "nectarmap", "nectar_map", "2-frames", "-", &"long".repeat(40)];
        let programs = keys.map(|key| Program::plain(key, RelPath::new("hive.exe").expect("a path")));
        let all = names(&programs);
        let of = |key: &str| all[key].as_str();
        assert_eq!([of("app"), of("nectar-map"), of("2-frames"), of("-")], ["App", "NectarMap", "App2Frames", "App2"]);
        let mut seen: Vec<String> = all.values().map(|name| name.to_lowercase()).collect();
        seen.sort();
        seen.dedup();
        assert_eq!(seen.len(), keys.len());
        assert!(all.values().all(|name| name.len() <= 64 && name.chars().all(|c| c.is_ascii_alphanumeric())));
    }
}
