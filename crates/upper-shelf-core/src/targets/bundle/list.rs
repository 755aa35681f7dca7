//! The property list of a bundle, written from a footprint and read back into one.
//!
//! What Apple has a key for stands there. What only we know (how programs are started, who made the product) stands in
//! one dictionary of ours, `UpperShelf`, which nobody else looks at.

use super::{executable, types};
use crate::footprint::{EnvironmentAction, Footprint, Identity, Place, RelPath, Trace, WorkingFolder};
use crate::manifest::written::ListValue;
use crate::platform::Platform;
use crate::targets::Job;
use plist::{Dictionary, Value};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// The dictionary of ours.
pub(super) const OURS: &str = "UpperShelf";

/// Categories of Linux desktops as Apple names them.
const CATEGORIES: [(&str, &str); 12] = [
    ("Office", "productivity"),
    ("Game", "games"),
    ("Development", "developer-tools"),
    ("Education", "education"),
    ("Graphics", "graphics-design"),
    ("AudioVideo", "video"),
    ("Audio", "music"),
    ("Video", "video"),
    ("Network", "utilities"),
    ("Science", "education"),
    ("Utility", "utilities"),
    ("System", "utilities"),
];

/// What people are asked about, as the manifest and Apple name it.
const REASONS: [(&str, &str); 15] = [
    ("bluetooth", "NSBluetoothAlwaysUsageDescription"),
    ("calendars", "NSCalendarsUsageDescription"),
    ("camera", "NSCameraUsageDescription"),
    ("contacts", "NSContactsUsageDescription"),
    ("desktop-folder", "NSDesktopFolderUsageDescription"),
    ("documents-folder", "NSDocumentsFolderUsageDescription"),
    ("downloads-folder", "NSDownloadsFolderUsageDescription"),
    ("local-network", "NSLocalNetworkUsageDescription"),
    ("location", "NSLocationUsageDescription"),
    ("microphone", "NSMicrophoneUsageDescription"),
    ("other-programs", "NSAppleEventsUsageDescription"),
    ("photos", "NSPhotoLibraryUsageDescription"),
    ("reminders", "NSRemindersUsageDescription"),
    ("removable-disks", "NSRemovableVolumesUsageDescription"),
    ("speech", "NSSpeechRecognitionUsageDescription"),
];

#[derive(Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
struct Ours {
    #[serde(default)]
    programs: Vec<OurProgram>,
    #[serde(default)]
    entry: Option<String>,
    #[serde(default)]
    main: Option<String>,
    #[serde(default)]
    platform: Option<String>,
    #[serde(default)]
    product: Identity,
    /// Names in other languages: the system has them in files of their own.
    #[serde(default)]
    names: BTreeMap<String, String>,
    /// Whose it is, where that was said.
    #[serde(default)]
    copyright: Option<String>,
    /// Keys that the manifest named itself.
    #[serde(default)]
    keys: Vec<String>,
}

/// Where in the manifest a key of the property list is written from; nothing for one that the manifest has no place for.
pub fn written_from(key: &str) -> Option<&'static str> {
    Some(match key {
        "CFBundleIdentifier" => "product.id",
        "CFBundleName" | "CFBundleDisplayName" => "product.name",
        "CFBundleShortVersionString" | "CFBundleVersion" => "product.version",
        "CFBundleExecutable" => "the main [[program]]",
        "CFBundleIconFile" => "product.icon",
        "CFBundlePackageType" | "CFBundleInfoDictionaryVersion" => "what a bundle is",
        "CFBundleDocumentTypes" | "UTExportedTypeDeclarations" | "UTImportedTypeDeclarations" => "[[file-type]]",
        "CFBundleURLTypes" => "[[link-scheme]]",
        "LSEnvironment" => "[[environment]]",
        "LSMinimumSystemVersion" => "install.smallest-macos",
        "LSUIElement" => "bundle.agent",
        "LSHasLocalizedDisplayName" => "bundle.names",
        "NSHumanReadableCopyright" => "bundle.copyright",
        OURS => "what only this tool knows",
        reason if REASONS.iter().any(|(_, apple)| *apple == reason) => "bundle.reasons",
        _ => return None,
    })
}

/// The product's names in other languages.
pub fn names(footprint: &Footprint) -> impl Iterator<Item = (&str, &str)> {
    footprint.traces().iter().filter_map(|t| match t {
        Trace::Rule { key, value } => Some((key.strip_prefix(super::NAME)?, value.as_str())),
        _ => None,
    })
}

/// The file with the product's name in a language.
pub fn strings(name: &str) -> Vec<u8> {
    let name = name.replace('\\', "\\\\").replace('"', "\\\"").replace('\n', " ");
    format!("\"CFBundleDisplayName\" = \"{name}\";\n\"CFBundleName\" = \"{name}\";\n").into_bytes()
}

#[derive(Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
struct OurProgram {
    key: String,
    file: String,
    #[serde(default)]
    arguments: Vec<String>,
    #[serde(default)]
    environment: BTreeMap<String, String>,
    /// `unchanged`, `home`, `install`, or `inside PATH`.
    working_folder: String,
    console: bool,
}

/// A version in the form that Apple documents for both keys: three whole numbers with dots between them.
pub fn documented(version: &str) -> String {
    let end = version.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(version.len());
    let mut numbers = version[..end].split('.').filter(|n| !n.is_empty()).map(|n| n.trim_start_matches('0'));
    let mut next = || numbers.next().filter(|n| !n.is_empty()).unwrap_or("0");
    format!("{}.{}.{}", next(), next(), next())
}

pub(super) fn texts(all: &[String]) -> Value {
    Value::Array(all.iter().map(|t| Value::String(t.clone())).collect())
}

pub(super) fn dictionary<const N: usize>(all: [(&str, Value); N]) -> Value {
    Value::Dictionary(all.into_iter().map(|(k, v)| (k.to_owned(), v)).collect())
}

/// The property list.
pub fn write(job: &Job) -> Vec<u8> {
    bytes(of(job.footprint, executable(job)))
}

/// A property list in its form with letters.
pub fn bytes(list: Dictionary) -> Vec<u8> {
    let mut bytes = Vec::new();
    // Writing into memory can't fail, and every value is of a kind that the form has.
    let _ = Value::Dictionary(list).to_writer_xml(&mut bytes);
    bytes.push(b'\n');
    bytes
}

/// What the property list says of a footprint; `executable` is the name of the file that the system starts.
pub fn of(footprint: &Footprint, executable: Option<String>) -> Dictionary {
    let product = &footprint.product;
    let text = |t: &Option<String>| Value::String(t.clone().unwrap_or_default());
    let mut list = Dictionary::new();
    let mut put = |key: &str, value: Value| drop(list.insert(key.into(), value));
    put("CFBundleDevelopmentRegion", "en".into());
    if let Some(name) = executable {
        put("CFBundleExecutable", name.into());
    }
    put("CFBundleIconFile", super::ICON.trim_end_matches(".icns").into());
    put("CFBundleIdentifier", text(&product.id));
    put("CFBundleInfoDictionaryVersion", "6.0".into());
    put("CFBundleName", text(&product.name));
    put("CFBundleDisplayName", text(&product.name));
    put("CFBundlePackageType", "APPL".into());
    let version = product.version.as_deref().map(documented).unwrap_or_default();
    put("CFBundleShortVersionString", version.clone().into());
    put("CFBundleVersion", version.into());
    put("NSHighResolutionCapable", true.into());
    let publisher = product.publisher.as_ref().map(|p| format!("© {p}"));
    if let Some(copyright) = footprint.rule(super::COPYRIGHT).map(str::to_owned).or(publisher) {
        put("NSHumanReadableCopyright", copyright.into());
    }
    if footprint.rule(super::AGENT).is_some() {
        put("LSUIElement", true.into());
    }
    for (key, apple) in REASONS {
        if let Some(reason) = footprint.rule(&format!("{}{key}", super::REASON)) {
            put(apple, reason.into());
        }
    }
    if names(footprint).next().is_some() {
        put("LSHasLocalizedDisplayName", true.into());
    }
    let category = product.categories.iter().find_map(|c| CATEGORIES.iter().find(|(name, _)| name == c));
    if let Some((_, category)) = category {
        put("LSApplicationCategoryType", format!("public.app-category.{category}").into());
    }
    if let Some(version) = footprint.rule("smallest-macos") {
        put("LSMinimumSystemVersion", version.into());
    }
    let processors = match footprint.platform {
        Some(Platform::MacosX64) => &["x86_64"][..],
        Some(Platform::MacosArm64) => &["arm64"],
        _ => &["arm64", "x86_64"],
    };
    let processors: Vec<String> = processors.iter().map(|p| (*p).to_owned()).collect();
    put("LSArchitecturePriority", texts(&processors));
    let mut types = types::Types::default();
    let mut links = Vec::new();
    let mut variables = Dictionary::new();
    for trace in footprint.traces() {
        match trace {
            Trace::Environment { name, value, .. } => drop(variables.insert(name.clone(), value.clone().into())),
            Trace::FileType { mime, extensions, name, .. } => {
                types.add(product.id.as_deref().unwrap_or_default(), mime, extensions, name);
            }
            Trace::LinkScheme { scheme, .. } => links.push(dictionary([
                ("CFBundleURLName", format!("{}.{scheme}", product.id.as_deref().unwrap_or_default()).into()),
                ("CFBundleTypeRole", "Viewer".into()),
                ("CFBundleURLSchemes", texts(std::slice::from_ref(scheme))),
            ])),
            _ => {}
        }
    }
    for (key, all) in types.lists().into_iter().chain([("CFBundleURLTypes", links)]) {
        if !all.is_empty() {
            put(key, Value::Array(all));
        }
    }
    if !variables.is_empty() {
        put("LSEnvironment", Value::Dictionary(variables));
    }
    for (key, value) in own_keys(footprint) {
        put(key, value);
    }
    if let Some(ours) = ours(footprint) {
        put(OURS, ours);
    }
    list
}

/// The keys that the manifest named itself.
fn own_keys(footprint: &Footprint) -> impl Iterator<Item = (&str, Value)> {
    footprint.traces().iter().filter_map(|t| match t {
        Trace::Rule { key, value } => {
            let value: ListValue = serde_json::from_str(value).ok()?;
            Some((key.strip_prefix(super::KEY)?, plist::to_value(&value).ok()?))
        }
        _ => None,
    })
}

fn ours(footprint: &Footprint) -> Option<Value> {
    let mut programs = Vec::new();
    let mut entry = None;
    for trace in footprint.traces() {
        match trace {
            Trace::Program { key, file, arguments, environment, working_folder, console } => {
                programs.push(OurProgram {
                    key: key.clone(),
                    file: file.to_string(),
                    arguments: arguments.clone(),
                    environment: environment.clone(),
                    working_folder: match working_folder {
                        WorkingFolder::Unchanged => "unchanged".into(),
                        WorkingFolder::Home => "home".into(),
                        WorkingFolder::Install => "install".into(),
                        WorkingFolder::Inside(path) => format!("inside {path}"),
                    },
                    console: *console,
                })
            }
            Trace::Shortcut { program, .. } => entry = Some(program.clone()),
            _ => {}
        }
    }
    let p = &footprint.product;
    // What has a key of its own stands there only.
    let version = p.version.clone().filter(|v| documented(v) != *v);
    let product = Identity { id: None, name: None, version, ..p.clone() };
    let main = footprint.main_program().map(str::to_owned);
    let platform = footprint.platform.map(|p| p.name().to_owned());
    let names = names(footprint).map(|(language, name)| (language.to_owned(), name.to_owned())).collect();
    let copyright = footprint.rule(super::COPYRIGHT).map(str::to_owned);
    let keys = own_keys(footprint).map(|(key, _)| key.to_owned()).collect();
    plist::to_value(&Ours { programs, entry, main, platform, product, names, copyright, keys }).ok()
}

/// What a property list says.
pub struct Said {
    /// Who the product is.
    pub product: Identity,
    /// For which platform it is, where that is said.
    pub platform: Option<Platform>,
    /// All traces that are not files.
    pub traces: Vec<Trace>,
    /// Whether we wrote it.
    pub is_ours: bool,
    /// The file that the system starts, in the bundle's folder of programs.
    pub executable: Option<String>,
}

/// Reads a property list; nothing for what is none.
pub fn read(bytes: &[u8]) -> Option<Said> {
    let list = Value::from_reader(std::io::Cursor::new(bytes)).ok()?.into_dictionary()?;
    let text = |key: &str| list.get(key).and_then(Value::as_string).filter(|t| !t.is_empty()).map(str::to_owned);
    let ours: Option<Ours> = list.get(OURS).and_then(|v| plist::from_value(v).ok());
    let is_ours = ours.is_some();
    let mut traces = Vec::new();
    let mut rule = |key: String, value: String| traces.push(Trace::Rule { key, value });
    let (mut product, platform, programs, entry, main) = match ours {
        Some(o) => {
            o.copyright.into_iter().for_each(|value| rule(super::COPYRIGHT.into(), value));
            o.names.into_iter().for_each(|(language, name)| rule(format!("{}{language}", super::NAME), name));
            for key in o.keys {
                let value = list.get(&key).and_then(|v| plist::from_value::<ListValue>(v).ok());
                if let Some(value) = value.and_then(|v| serde_json::to_string(&v).ok()) {
                    rule(format!("{}{key}", super::KEY), value);
                }
            }
            (o.product, o.platform.and_then(|p| p.parse().ok()), o.programs, o.entry, o.main)
        }
        None => {
            text("NSHumanReadableCopyright").into_iter().for_each(|value| rule(super::COPYRIGHT.into(), value));
            (Identity::default(), None, Vec::new(), None, None)
        }
    };
    if list.get("LSUIElement").and_then(Value::as_boolean) == Some(true) {
        rule(super::AGENT.into(), "yes".into());
    }
    for (key, apple) in REASONS {
        text(apple).into_iter().for_each(|value| rule(format!("{}{key}", super::REASON), value));
    }
    product.id = text("CFBundleIdentifier");
    product.name = text("CFBundleDisplayName").or_else(|| text("CFBundleName"));
    let version = || text("CFBundleShortVersionString").or_else(|| text("CFBundleVersion"));
    product.version = product.version.take().or_else(version);
    for p in programs {
        let inside = |folder: &str| RelPath::new(folder).ok().map(WorkingFolder::Inside);
        let working_folder = match p.working_folder.as_str() {
            "home" => WorkingFolder::Home,
            "install" => WorkingFolder::Install,
            other => other.strip_prefix("inside ").and_then(inside).unwrap_or(WorkingFolder::Unchanged),
        };
        traces.push(Trace::Program {
            key: p.key,
            file: RelPath::new(p.file).ok()?,
            arguments: p.arguments,
            environment: p.environment,
            working_folder,
            console: p.console,
        });
    }
    // A bundle of another maker is its own main program.
    let main = match (main, text("CFBundleExecutable")) {
        (Some(main), _) => main,
        (None, Some(name)) if !is_ours => {
            let file = RelPath::new(format!("{}/{name}", super::CODE)).ok()?;
            let (arguments, environment) = (Vec::new(), BTreeMap::new());
            let working_folder = WorkingFolder::Unchanged;
            traces.push(Trace::Program {
                key: "app".into(),
                file,
                arguments,
                environment,
                working_folder,
                console: false,
            });
            "app".into()
        }
        _ => "app".into(),
    };
    let entry = if is_ours { entry } else { Some(main.clone()) };
    if let (Some(program), Some(name)) = (entry, product.name.clone()) {
        let (arguments, description) = (Vec::new(), None);
        traces.push(Trace::Shortcut { place: Place::Menu, name, program, arguments, description });
    }
    let array = |key: &str| list.get(key).and_then(Value::as_array).cloned().unwrap_or_default();
    let strings = |value: Option<&Value>| -> Vec<String> {
        match value {
            Some(Value::String(one)) => vec![one.clone()],
            Some(Value::Array(all)) => all.iter().filter_map(|v| v.as_string().map(str::to_owned)).collect(),
            _ => Vec::new(),
        }
    };
    let declared = [array("UTExportedTypeDeclarations"), array("UTImportedTypeDeclarations")].concat();
    for kind in array("CFBundleDocumentTypes").iter().filter_map(Value::as_dictionary) {
        let wanted = strings(kind.get("LSItemContentTypes"));
        let is_it = |d: &&Dictionary| {
            d.get("UTTypeIdentifier").and_then(Value::as_string).is_some_and(|i| wanted.iter().any(|w| w == i))
        };
        let found = declared.iter().filter_map(Value::as_dictionary).find(is_it);
        let tags = found.and_then(|d| d.get("UTTypeTagSpecification")).and_then(Value::as_dictionary);
        let mut extensions = strings(tags.and_then(|t| t.get("public.filename-extension")));
        if extensions.is_empty() {
            extensions = strings(kind.get("CFBundleTypeExtensions"));
        }
        let mime = strings(tags.and_then(|t| t.get("public.mime-type"))).into_iter().next();
        let mime = mime.or_else(|| strings(kind.get("CFBundleTypeMIMETypes")).into_iter().next());
        let name = kind.get("CFBundleTypeName").and_then(Value::as_string).unwrap_or_default().to_owned();
        let mime = mime.or_else(|| wanted.first().cloned()).unwrap_or_else(|| name.clone());
        if !mime.is_empty() {
            traces.push(Trace::FileType { mime, extensions, name, program: main.clone() });
        }
    }
    for kind in array("CFBundleURLTypes").iter().filter_map(Value::as_dictionary) {
        for scheme in strings(kind.get("CFBundleURLSchemes")) {
            traces.push(Trace::LinkScheme { scheme, program: main.clone() });
        }
    }
    for (name, value) in list.get("LSEnvironment").and_then(Value::as_dictionary).into_iter().flatten() {
        let value = value.as_string().unwrap_or_default().to_owned();
        traces.push(Trace::Environment { name: name.clone(), action: EnvironmentAction::Set, value });
    }
    if let Some(value) = text("LSMinimumSystemVersion") {
        traces.push(Trace::Rule { key: "smallest-macos".into(), value });
    }
    let executable = text("CFBundleExecutable");
    Some(Said { product, platform, traces, is_ours, executable })
}
