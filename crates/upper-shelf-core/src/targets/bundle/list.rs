//! The property list of a bundle, written from a footprint and read back into one.
//!
//! What Apple has a key for stands there. What only we know (how programs are started, who made the product) stands in
//! one dictionary of ours, `UpperShelf`, which nobody else looks at.

use super::{executable, types};
use crate::footprint::{
    Access, BundleRules, EnvironmentAction, FileType, Footprint, Identity, InstallRules, JsonText, LinkScheme,
    Permission, Place, Program, RelPath, Shortcut, Variable, WorkingFolder,
};
use crate::platform::Platform;
use crate::targets::Job;
use plist::{Dictionary, Value};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// The dictionary of ours.
pub(crate) const OURS: &str = "UpperShelf";

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

/// The key of the property list that holds a reason; none for what the system doesn't ask about.
pub fn key_of(access: Access) -> Option<&'static str> {
    Some(match access {
        Access::Bluetooth => "NSBluetoothAlwaysUsageDescription",
        Access::Calendars => "NSCalendarsUsageDescription",
        Access::Camera => "NSCameraUsageDescription",
        Access::Contacts => "NSContactsUsageDescription",
        Access::DesktopFolder => "NSDesktopFolderUsageDescription",
        Access::DocumentsFolder => "NSDocumentsFolderUsageDescription",
        Access::DownloadsFolder => "NSDownloadsFolderUsageDescription",
        Access::LocalNetwork => "NSLocalNetworkUsageDescription",
        Access::Location => "NSLocationUsageDescription",
        Access::Microphone => "NSMicrophoneUsageDescription",
        Access::Music => "NSAppleMusicUsageDescription",
        Access::OtherPrograms => "NSAppleEventsUsageDescription",
        Access::Photos => "NSPhotoLibraryUsageDescription",
        Access::Reminders => "NSRemindersUsageDescription",
        Access::RemovableDisks => "NSRemovableVolumesUsageDescription",
        Access::Speech => "NSSpeechRecognitionUsageDescription",
        Access::Internet | Access::Server | Access::Videos => return None,
    })
}

#[derive(Serialize, Deserialize, schemars::JsonSchema)]
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
        "LSMinimumSystemVersion" => "install.minimum-macos",
        "LSUIElement" => "bundle.agent",
        "LSHasLocalizedDisplayName" => "bundle.names",
        "NSHumanReadableCopyright" => "bundle.copyright",
        OURS => "what only this tool knows",
        reason if Access::ALL.into_iter().any(|access| key_of(access) == Some(reason)) => "permissions",
        _ => return None,
    })
}

/// The file with the product's name in a language.
pub fn strings(name: &str) -> Vec<u8> {
    let name = name.replace('\\', "\\\\").replace('"', "\\\"").replace('\n', " ");
    format!("\"CFBundleDisplayName\" = \"{name}\";\n\"CFBundleName\" = \"{name}\";\n").into_bytes()
}

#[derive(Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
struct OurProgram {
    key: String,
    file: String,
    #[serde(default)]
    arguments: Vec<String>,
    #[serde(default)]
    environment: BTreeMap<String, String>,
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    unset: BTreeSet<String>,
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
    let Footprint {
        product: _,
        platform,
        // Files beside it.
        tree: _,
        // What only we know of them stands among what is ours.
        programs: _,
        shortcuts: _,
        file_types,
        link_schemes,
        environment,
        // A bundle carries none.
        registry: _,
        services: _,
        fonts: _,
        commands: _,
        shell_files: _,
        choices: _,
        permissions,
        icons: _,
        install: InstallRules { minimum_macos, .. },
        bundle,
        foreign: _,
    } = footprint;
    if let Some(copyright) = bundle.copyright.clone().or(publisher) {
        put("NSHumanReadableCopyright", copyright.into());
    }
    if bundle.agent {
        put("LSUIElement", true.into());
    }
    for Permission { access, reason } in permissions {
        if let Some((key, text)) = key_of(*access).zip(reason.as_deref()) {
            put(key, text.into());
        }
    }
    if !bundle.names.is_empty() {
        put("LSHasLocalizedDisplayName", true.into());
    }
    let category = product.categories.iter().find_map(|c| CATEGORIES.iter().find(|(name, _)| name == c));
    if let Some((_, category)) = category {
        put("LSApplicationCategoryType", format!("public.app-category.{category}").into());
    }
    if let Some(version) = minimum_macos {
        put("LSMinimumSystemVersion", version.to_string().into());
    }
    let processors = match platform {
        Some(Platform::MacosX64) => &["x86_64"][..],
        Some(Platform::MacosArm64) => &["arm64"],
        _ => &["arm64", "x86_64"],
    };
    let processors: Vec<String> = processors.iter().map(|p| (*p).to_owned()).collect();
    put("LSArchitecturePriority", texts(&processors));
    let id = product.id.as_deref().unwrap_or_default();
    let mut types = types::Types::default();
    for FileType { mime, extensions, name, program: _ } in file_types {
        types.add(id, mime, extensions, name);
    }
    let link = |LinkScheme { scheme, program: _ }: &LinkScheme| {
        dictionary([
            ("CFBundleURLName", format!("{id}.{scheme}").into()),
            ("CFBundleTypeRole", "Viewer".into()),
            ("CFBundleURLSchemes", texts(std::slice::from_ref(scheme))),
        ])
    };
    let links = link_schemes.iter().map(link).collect();
    let variables: Dictionary = environment.iter().map(|v| (v.name.clone(), Value::String(v.value.clone()))).collect();
    for (key, all) in types.lists().into_iter().chain([("CFBundleURLTypes", links)]) {
        if !all.is_empty() {
            put(key, Value::Array(all));
        }
    }
    if !variables.is_empty() {
        put("LSEnvironment", Value::Dictionary(variables));
    }
    for (key, JsonText(text)) in &bundle.keys {
        let value = serde_json::from_str::<serde_json::Value>(text).ok().and_then(|v| plist::to_value(&v).ok());
        if let Some(value) = value {
            put(key, value);
        }
    }
    if let Some(ours) = ours(footprint) {
        put(OURS, ours);
    }
    list
}

fn ours(footprint: &Footprint) -> Option<Value> {
    let of_program = |program: &Program| {
        let Program { key, file, arguments, environment, unset, working_folder, console } = program.clone();
        OurProgram {
            key,
            file: file.to_string(),
            arguments,
            environment,
            unset,
            working_folder: match working_folder {
                WorkingFolder::Unchanged => "unchanged".into(),
                WorkingFolder::Home => "home".into(),
                WorkingFolder::Install => "install".into(),
                WorkingFolder::Inside(path) => format!("inside {path}"),
            },
            console,
        }
    };
    let programs = footprint.programs.iter().map(of_program).collect();
    let entry = footprint.shortcuts.last().map(|s| s.program.clone());
    let p = &footprint.product;
    // What has a key of its own stands there only.
    let version = p.version.clone().filter(|v| documented(v) != *v);
    let product = Identity { id: None, name: None, version, ..p.clone() };
    let main = footprint.main_program().map(str::to_owned);
    let platform = footprint.platform.map(|p| p.name().to_owned());
    let BundleRules { names, copyright, keys, agent: _ } = footprint.bundle.clone();
    let keys = keys.into_keys().collect();
    plist::to_value(&Ours { programs, entry, main, platform, product, names, copyright, keys }).ok()
}

/// What a property list says.
#[derive(Default)]
pub struct Said {
    /// Who the product is.
    pub product: Identity,
    /// For which platform it is, where that is said.
    pub platform: Option<Platform>,
    /// What people start.
    pub programs: Vec<Program>,
    /// The bundle as its own entry.
    pub shortcut: Option<Shortcut>,
    /// Kinds of documents.
    pub file_types: Vec<FileType>,
    /// Kinds of links.
    pub link_schemes: Vec<LinkScheme>,
    /// Variables.
    pub environment: Vec<Variable>,
    /// How it goes onto a machine.
    pub install: InstallRules,
    /// What it says besides.
    pub bundle: BundleRules,
    /// What people are asked about.
    pub permissions: Vec<Permission>,
    /// Whether we wrote it.
    pub is_ours: bool,
    /// The file that the system starts, in the bundle's folder of programs.
    pub executable: Option<String>,
}

impl Said {
    /// All of it, without the tree.
    pub fn footprint(self) -> Footprint {
        Footprint {
            product: self.product,
            platform: self.platform,
            programs: self.programs.into(),
            shortcuts: self.shortcut.into_iter().collect(),
            file_types: self.file_types.into(),
            link_schemes: self.link_schemes.into(),
            environment: self.environment.into(),
            install: self.install,
            bundle: self.bundle,
            permissions: self.permissions.into(),
            ..Footprint::default()
        }
    }
}

/// Reads a property list; nothing for what is none.
pub fn read(bytes: &[u8]) -> Option<Said> {
    let list = shallow_plist::value_of(bytes)?.into_dictionary()?;
    let text = |key: &str| list.get(key).and_then(Value::as_string).filter(|t| !t.is_empty()).map(str::to_owned);
    let ours: Option<Ours> = list.get(OURS).and_then(|v| plist::from_value(v).ok());
    let mut said = Said { is_ours: ours.is_some(), executable: text("CFBundleExecutable"), ..Said::default() };
    let (mut main, mut entry) = (None, None);
    match ours {
        Some(ours) => {
            said.bundle.copyright = ours.copyright;
            said.bundle.names = ours.names;
            for key in ours.keys {
                let value = list.get(&key).and_then(|v| plist::from_value::<serde_json::Value>(v).ok());
                if let Some(value) = value.and_then(|v| serde_json::to_string(&v).ok()) {
                    said.bundle.keys.insert(key, JsonText(value));
                }
            }
            said.product = ours.product;
            said.platform = ours.platform.and_then(|p| p.parse().ok());
            said.programs = ours.programs.into_iter().map(program).collect::<Option<_>>()?;
            (main, entry) = (ours.main, ours.entry);
        }
        None => said.bundle.copyright = text("NSHumanReadableCopyright"),
    }
    said.bundle.agent = list.get("LSUIElement").and_then(Value::as_boolean) == Some(true);
    for access in Access::ALL {
        let reason = key_of(access).and_then(&text);
        said.permissions.extend(reason.map(|reason| Permission { access, reason: Some(reason) }));
    }
    said.product.id = text("CFBundleIdentifier");
    said.product.name = text("CFBundleDisplayName").or_else(|| text("CFBundleName"));
    let version = || text("CFBundleShortVersionString").or_else(|| text("CFBundleVersion"));
    said.product.version = said.product.version.take().or_else(version);
    // A bundle of another maker is its own main program.
    let main = match (main, &said.executable) {
        (None, Some(name)) if !said.is_ours => {
            let file = RelPath::new(format!("{}/{name}", super::CODE)).ok()?;
            said.programs.push(Program::plain("app", file));
            "app".into()
        }
        (main, _) => main.unwrap_or_else(|| "app".into()),
    };
    let entry = if said.is_ours { entry } else { Some(main.clone()) };
    if let (Some(program), Some(name)) = (entry, said.product.name.clone()) {
        let (arguments, description) = (Vec::new(), None);
        said.shortcut = Some(Shortcut { place: Place::Menu, name: name.into(), program, arguments, description });
    }
    said.file_types = file_types(&list, &main);
    for kind in array(&list, "CFBundleURLTypes").iter().filter_map(Value::as_dictionary) {
        let schemes = texts_of(kind.get("CFBundleURLSchemes")).into_iter();
        said.link_schemes.extend(schemes.map(|scheme| LinkScheme { scheme, program: main.clone() }));
    }
    for (name, value) in list.get("LSEnvironment").and_then(Value::as_dictionary).into_iter().flatten() {
        let value = value.as_string().unwrap_or_default().to_owned();
        said.environment.push(Variable { name: name.clone(), action: EnvironmentAction::Set, value });
    }
    said.install.minimum_macos = text("LSMinimumSystemVersion").and_then(|v| v.parse().ok());
    Some(said)
}

fn program(ours: OurProgram) -> Option<Program> {
    let OurProgram { key, file, arguments, environment, unset, working_folder, console } = ours;
    let inside = |folder: &str| RelPath::new(folder).ok().map(WorkingFolder::Inside);
    let working_folder = match working_folder.as_str() {
        "home" => WorkingFolder::Home,
        "install" => WorkingFolder::Install,
        other => other.strip_prefix("inside ").and_then(inside).unwrap_or(WorkingFolder::Unchanged),
    };
    Some(Program { key, file: RelPath::new(file).ok()?, arguments, environment, unset, working_folder, console })
}

fn array(list: &Dictionary, key: &str) -> Vec<Value> {
    list.get(key).and_then(Value::as_array).cloned().unwrap_or_default()
}

/// One text, or several.
fn texts_of(value: Option<&Value>) -> Vec<String> {
    match value {
        Some(Value::String(one)) => vec![one.clone()],
        Some(Value::Array(all)) => all.iter().filter_map(|v| v.as_string().map(str::to_owned)).collect(),
        _ => Vec::new(),
    }
}

/// The kinds of documents, with what their declarations say.
fn file_types(list: &Dictionary, main: &str) -> Vec<FileType> {
    let declared = [array(list, "UTExportedTypeDeclarations"), array(list, "UTImportedTypeDeclarations")].concat();
    let mut types = Vec::new();
    for kind in array(list, "CFBundleDocumentTypes").iter().filter_map(Value::as_dictionary) {
        let wanted = texts_of(kind.get("LSItemContentTypes"));
        let is_it = |d: &&Dictionary| {
            d.get("UTTypeIdentifier").and_then(Value::as_string).is_some_and(|i| wanted.iter().any(|w| w == i))
        };
        let found = declared.iter().filter_map(Value::as_dictionary).find(is_it);
        let tags = found.and_then(|d| d.get("UTTypeTagSpecification")).and_then(Value::as_dictionary);
        let mut extensions = texts_of(tags.and_then(|t| t.get("public.filename-extension")));
        if extensions.is_empty() {
            extensions = texts_of(kind.get("CFBundleTypeExtensions"));
        }
        let mime = texts_of(tags.and_then(|t| t.get("public.mime-type"))).into_iter().next();
        let mime = mime.or_else(|| texts_of(kind.get("CFBundleTypeMIMETypes")).into_iter().next());
        let name = kind.get("CFBundleTypeName").and_then(Value::as_string).unwrap_or_default().to_owned();
        let mime = mime.or_else(|| wanted.first().cloned()).unwrap_or_else(|| name.clone());
        if !mime.is_empty() {
            types.push(FileType { mime, extensions, name: name.into(), program: main.to_owned() });
        }
    }
    types
}
