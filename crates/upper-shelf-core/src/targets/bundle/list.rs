//! The property list of a bundle, written from a footprint and read back into one.
//!
//! What Apple has a key for stands there. What only we know (how programs are started, who made the product) stands in
//! one dictionary of ours, `UpperShelf`, which nobody else looks at.

use super::executable;
use crate::footprint::{EnvironmentAction, Footprint, Identity, Place, RelPath, Trace, WorkingFolder};
use crate::platform::Platform;
use crate::targets::Job;
use plist::{Dictionary, Value};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// The dictionary of ours.
const OURS: &str = "UpperShelf";

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

/// The numbers that a version begins with.
fn numbers(version: &str) -> String {
    let end = version.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(version.len());
    let numbers = version[..end].trim_matches('.');
    if numbers.is_empty() { "0".into() } else { numbers.into() }
}

fn texts(all: &[String]) -> Value {
    Value::Array(all.iter().map(|t| Value::String(t.clone())).collect())
}

fn dictionary<const N: usize>(all: [(&str, Value); N]) -> Value {
    Value::Dictionary(all.into_iter().map(|(k, v)| (k.to_owned(), v)).collect())
}

/// The property list.
pub fn write(job: &Job) -> Vec<u8> {
    let footprint = job.footprint;
    let product = &footprint.product;
    let text = |t: &Option<String>| Value::String(t.clone().unwrap_or_default());
    let mut list = Dictionary::new();
    let mut put = |key: &str, value: Value| drop(list.insert(key.into(), value));
    put("CFBundleDevelopmentRegion", "en".into());
    if let Some(name) = executable(job) {
        put("CFBundleExecutable", name.into());
    }
    put("CFBundleIconFile", super::ICON.trim_end_matches(".icns").into());
    put("CFBundleIdentifier", text(&product.id));
    put("CFBundleInfoDictionaryVersion", "6.0".into());
    put("CFBundleName", text(&product.name));
    put("CFBundleDisplayName", text(&product.name));
    put("CFBundlePackageType", "APPL".into());
    put("CFBundleShortVersionString", text(&product.version));
    put("CFBundleVersion", numbers(product.version.as_deref().unwrap_or_default()).into());
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
    let mut types = Vec::new();
    let mut declared = Vec::new();
    let mut links = Vec::new();
    let mut variables = Dictionary::new();
    for trace in footprint.traces() {
        match trace {
            Trace::Environment { name, value, .. } => drop(variables.insert(name.clone(), value.clone().into())),
            Trace::FileType { mime, extensions, name, .. } => {
                let id = product.id.as_deref().unwrap_or_default();
                let kind = format!("{id}.type{}", types.len() + 1);
                types.push(dictionary([
                    ("CFBundleTypeName", name.clone().into()),
                    ("CFBundleTypeRole", "Editor".into()),
                    ("CFBundleTypeIconFile", super::ICON.into()),
                    ("LSHandlerRank", "Owner".into()),
                    ("LSItemContentTypes", texts(std::slice::from_ref(&kind))),
                ]));
                declared.push(dictionary([
                    ("UTTypeIdentifier", kind.into()),
                    ("UTTypeDescription", name.clone().into()),
                    ("UTTypeConformsTo", texts(&["public.data".to_owned()])),
                    (
                        "UTTypeTagSpecification",
                        dictionary([
                            ("public.filename-extension", texts(extensions)),
                            ("public.mime-type", texts(std::slice::from_ref(mime))),
                        ]),
                    ),
                ]));
            }
            Trace::LinkScheme { scheme, .. } => links.push(dictionary([
                ("CFBundleURLName", format!("{}.{scheme}", product.id.as_deref().unwrap_or_default()).into()),
                ("CFBundleTypeRole", "Viewer".into()),
                ("CFBundleURLSchemes", texts(std::slice::from_ref(scheme))),
            ])),
            _ => {}
        }
    }
    for (key, all) in
        [("CFBundleDocumentTypes", types), ("UTExportedTypeDeclarations", declared), ("CFBundleURLTypes", links)]
    {
        if !all.is_empty() {
            put(key, Value::Array(all));
        }
    }
    if !variables.is_empty() {
        put("LSEnvironment", Value::Dictionary(variables));
    }
    if let Some(ours) = ours(footprint) {
        put(OURS, ours);
    }
    let mut bytes = Vec::new();
    // Writing into memory can't fail, and every value is of a kind that the form has.
    let _ = Value::Dictionary(list).to_writer_xml(&mut bytes);
    bytes.push(b'\n');
    bytes
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
    let product = Identity { id: None, name: None, version: None, ..p.clone() };
    let main = footprint.main_program().map(str::to_owned);
    let platform = footprint.platform.map(|p| p.name().to_owned());
    let names = names(footprint).map(|(language, name)| (language.to_owned(), name.to_owned())).collect();
    let copyright = footprint.rule(super::COPYRIGHT).map(str::to_owned);
    plist::to_value(&Ours { programs, entry, main, platform, product, names, copyright }).ok()
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
    product.version = text("CFBundleShortVersionString").or_else(|| text("CFBundleVersion"));
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
    let declared = array("UTExportedTypeDeclarations");
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
