//! From a package, ours or anybody's, back to a footprint.

use super::carry::{Command, line_arguments, program_of};
use super::layout::MAIN;
use super::program_row::ProgramRow;
use super::words::{arguments, unformatted};
use super::{contents, names, registry, rules};
use crate::budget::Package;
use crate::command_line;
use crate::content::ContentHash;
use crate::footprint::{
    Choice, EnvironmentAction, Footprint, Foreign, Identity, Node, Place, Program, RelPath, Service, ServiceStart,
    Shortcut, Text, Variable, WorkingFolder,
};
use crate::platform::Platform;
use crate::targets::Depth;
use msi_database::database::Database;
use msi_database::rows::{self, Row as _};
use msi_database::{Result, summary};
use std::collections::{BTreeSet, HashMap};

/// Tables that the footprint tells of, or that only say how an installation goes and looks.
const KNOWN: [&str; 46] = [
    "ActionText",
    "AdminExecuteSequence",
    "AdminUISequence",
    "AdvtExecuteSequence",
    "AppSearch",
    "Binary",
    "CheckBox",
    "Component",
    "Condition",
    "Control",
    "ControlCondition",
    "ControlEvent",
    "CreateFolder",
    "CustomAction",
    "Dialog",
    "Directory",
    "DuplicateFile",
    "Environment",
    "EventMapping",
    "Feature",
    "FeatureComponents",
    "File",
    "Font",
    "Icon",
    "InstallExecuteSequence",
    "InstallUISequence",
    "LaunchCondition",
    "ListBox",
    "Media",
    "MsiFileHash",
    "MsiShortcutProperty",
    "Property",
    "RadioButton",
    "RegLocator",
    "Registry",
    "RemoveFile",
    "ServiceControl",
    "ServiceInstall",
    "Shortcut",
    "Signature",
    "TextStyle",
    "UIText",
    "Upgrade",
    "_Validation",
    ProgramRow::TABLE,
    "MsiDigitalCertificate",
];

pub fn read(package: &Package, depth: Depth) -> Result<Footprint> {
    let (mut compound, db) = contents::open(package)?;
    let contents =
        if depth == Depth::Contents { contents::contents(&db, &mut compound, package)? } else { HashMap::new() };
    Ok(Reader::new(&db)?.footprint(contents))
}

/// The path of each file by its key.
pub fn paths(db: &Database) -> Result<HashMap<&str, RelPath>> {
    let mut reader = Reader::new(db)?;
    reader.read_files(&HashMap::new());
    Ok(reader.files)
}

/// Where a folder of the package is.
#[derive(Clone)]
enum Spot {
    /// The product's own folder, or one in it.
    Own(Option<RelPath>),
    /// Elsewhere.
    Other,
}

struct Reader<'d> {
    db: &'d Database,
    spots: HashMap<&'d str, Spot>,
    /// By file key.
    files: HashMap<&'d str, RelPath>,
    /// By component: the key path's file.
    component_files: HashMap<&'d str, &'d str>,
    /// What commands are matched with.
    commands: Vec<Command>,
    tree: Vec<Node>,
    programs: Vec<Program>,
    /// All but the tree and the programs.
    footprint: Footprint,
    foreign: Vec<Foreign>,
    strange: BTreeSet<String>,
}

impl<'d> Reader<'d> {
    fn new(db: &'d Database) -> Result<Self> {
        let mut it = Self {
            db,
            spots: HashMap::new(),
            files: HashMap::new(),
            component_files: HashMap::new(),
            commands: Vec::new(),
            tree: Vec::new(),
            programs: Vec::new(),
            footprint: Footprint::default(),
            foreign: Vec::new(),
            strange: BTreeSet::new(),
        };
        it.folders();
        Ok(it)
    }

    /// Finds the product's own folder, and where all others are from there.
    fn folders(&mut self) {
        let rows: HashMap<&str, (&str, &str)> =
            self.db.each::<rows::Directory>().map(|r| (r.directory, (r.directory_parent, r.default_dir))).collect();
        let above = |key: &'d str| {
            let mut chain = vec![key];
            // A hostile table may go round in circles.
            while let Some((parent, _)) = rows.get(chain[chain.len() - 1])
                && !parent.is_empty()
                && chain.len() < 100
                && !chain.contains(parent)
            {
                chain.push(parent);
            }
            chain.reverse();
            chain
        };
        let with_files: BTreeSet<&str> = self.db.each::<rows::Component>().map(|r| r.directory).collect();
        let root = if rows.contains_key("INSTALLDIR") {
            Some("INSTALLDIR")
        } else {
            // What all folders with something in them have in common.
            let mut common: Option<Vec<&str>> = None;
            for key in with_files {
                let chain = above(key);
                common = Some(match common {
                    None => chain,
                    Some(c) => c.into_iter().zip(chain).take_while(|(a, b)| a == b).map(|(a, _)| a).collect(),
                });
            }
            common.and_then(|c| c.last().copied())
        };
        for key in rows.keys() {
            let chain = above(key);
            let Some(at) = chain.iter().position(|k| Some(*k) == root) else {
                self.spots.insert(key, Spot::Other);
                continue;
            };
            let names: Vec<&str> = chain[at + 1..]
                .iter()
                .filter_map(|k| rows.get(k))
                .map(|r| names::long(r.1))
                .filter(|n| *n != ".")
                .collect();
            let path = if names.is_empty() { Ok(None) } else { RelPath::new(names.join("/")).map(Some) };
            match path {
                Ok(path) => {
                    if let Some(path) = &path {
                        self.tree.push(Node::Folder { path: path.clone(), mode: 0o755 });
                    }
                    self.spots.insert(key, Spot::Own(path));
                }
                Err(why) => {
                    self.strange.insert(format!("the folder {key} {why}"));
                    self.spots.insert(key, Spot::Other);
                }
            }
        }
    }

    /// The path of a name in a folder.
    fn path(&mut self, folder: &str, name: &str) -> Option<RelPath> {
        let path = match self.spots.get(folder) {
            Some(Spot::Own(None)) => RelPath::new(name),
            Some(Spot::Own(Some(folder))) => RelPath::new(format!("{folder}/{name}")),
            // Files elsewhere are shown below the name of the package's folder.
            Some(Spot::Other) | None => RelPath::new(format!("[{folder}]/{name}")),
        };
        // A slash in a name would lead into another folder.
        if name.contains(['/', '\\']) {
            self.strange.insert(format!("the name {name:?} has a slash in it"));
            return None;
        }
        path.map_err(|why| self.strange.insert(format!("the name {name:?} {why}"))).ok()
    }

    fn footprint(mut self, contents: HashMap<&str, ContentHash>) -> Footprint {
        let db = self.db;
        let template = db.summary.text(summary::TEMPLATE);
        let platform = match template.split(';').next().unwrap_or_default() {
            "x64" => Some(Platform::WindowsX64),
            "Arm64" => Some(Platform::WindowsArm64),
            "Intel" | "" => Some(Platform::WindowsX86),
            _ => None,
        };
        self.read_files(&contents);
        drop(contents);
        self.read_programs();
        self.read_shortcuts();
        self.read_services();
        self.read_environment();
        self.read_choices();
        let files = std::mem::take(&mut self.files);
        let bits64 = platform != Some(Platform::WindowsX86);
        let registry = registry::read(
            db,
            bits64,
            |file, first| {
                let path = files.get(file)?;
                self.command(path, first).map(|(key, _)| key)
            },
            &files,
        );
        self.footprint.file_types = registry.file_types.into();
        self.footprint.link_schemes = registry.link_schemes.into();
        self.footprint.registry = registry.registry.into();
        self.footprint.fonts = registry.fonts.into();
        self.files = files;
        self.read_rules();
        for (name, table) in db.tables() {
            if !KNOWN.contains(&name) && table.rows().len() > 0 {
                self.foreign.push(Foreign::Table { name: name.to_owned(), rows: table.rows().len() });
            }
        }
        if db.property("UpperShelfId").is_none() {
            self.read_what_others_do();
        }
        for what in std::mem::take(&mut self.strange) {
            self.foreign.push(Foreign::LeftOut { what });
        }
        let some = |property: &str| db.property(property).filter(|v| !v.is_empty()).map(str::to_owned);
        let product = Identity {
            id: some("UpperShelfId"),
            name: some("ProductName"),
            version: some("UpperShelfVersion").or_else(|| some("ProductVersion")),
            publisher: some("Manufacturer"),
            summary: some("ARPCOMMENTS").map(Into::into),
            homepage: some("ARPURLINFOABOUT"),
            support: some("ARPHELPLINK").or_else(|| some("ARPCONTACT")),
            ..Identity::default()
        };
        // Sorting takes memory too: with very many files what is not needed any more goes first.
        let Self { tree, programs, files, component_files, spots, footprint, foreign, .. } = self;
        drop((files, component_files, spots));
        let (tree, programs, foreign) = (tree.into(), programs.into(), foreign.into());
        Footprint { product, platform, tree, programs, foreign, ..footprint }
    }

    /// What others' packages do besides laying out files: actions of their own, what depends on conditions, what services
    /// need.
    fn read_what_others_do(&mut self) {
        let mut when: HashMap<&str, (i32, &str)> = HashMap::new();
        for row in self.db.each::<rows::InstallExecuteSequence>() {
            when.insert(row.action, (row.sequence.unwrap_or(0), row.condition));
        }
        for row in self.db.each::<rows::CustomAction>() {
            let (name, kind) = (row.action, row.kind);
            let (source, target) = (row.source, row.target);
            // "Custom Action Types": the low six bits say what it is, the others when and as whom.
            let what = match kind & 0x3F {
                1 => format!("calls {target} of the library {source}"),
                17 => format!("calls {target} of the installed library {source}"),
                2 => format!("runs the program {source} with {target:?}"),
                18 => format!("runs the installed program {source} with {target:?}"),
                34 => format!("runs {target:?} in {source}"),
                50 => format!("runs the program that {source} names, with {target:?}"),
                5 | 21 | 37 | 53 => format!("runs a JavaScript: {source}"),
                6 | 22 | 38 | 54 => format!("runs a VBScript: {source}"),
                19 => format!("stops with the message {target:?}"),
                35 => format!("sets the folder {source} to {target:?}"),
                51 => format!("sets {source} to {target:?}"),
                other => format!("is of type {other}"),
            };
            let mut how = Vec::new();
            how.extend((kind & 0x400 != 0).then_some("when changes are made"));
            how.extend((kind & 0x100 != 0).then_some("when they are rolled back"));
            how.extend((kind & 0x200 != 0).then_some("at the end"));
            how.extend((kind & 0x800 != 0).then_some("with system privileges"));
            let how: String = how.iter().map(|h| format!(", {h}")).collect();
            let place = match when.get(name) {
                Some((at, "")) => format!(" (at {at})"),
                Some((at, condition)) => format!(" (at {at}, if {condition})"),
                None => " (not while it is installed)".into(),
            };
            self.foreign.push(Foreign::CustomAction { name: name.to_owned(), does: format!("{what}{how}{place}") });
        }
        for row in self.db.each::<rows::Component>() {
            let (component, condition) = (row.component.to_owned(), row.condition.to_owned());
            if !condition.is_empty() {
                self.foreign.push(Foreign::ConditionalComponent { component, condition });
            }
        }
        for row in self.db.each::<rows::ServiceInstall>() {
            if row.dependencies.is_empty() {
                continue;
            }
            let needs = row.dependencies.replace("[~]", " ");
            let (service, needs) = (row.name.to_owned(), needs.trim().to_owned());
            self.foreign.push(Foreign::ServiceNeeds { service, needs });
        }
    }

    fn read_files(&mut self, contents: &HashMap<&str, ContentHash>) {
        let folders: HashMap<&str, &str> =
            self.db.each::<rows::Component>().map(|r| (r.component, r.directory)).collect();
        self.component_files = self.db.each::<rows::Component>().map(|r| (r.component, r.key_path)).collect();
        let count = self.db.table("File").map_or(0, |t| t.rows().len());
        self.tree.reserve_exact(count);
        for row in self.db.each::<rows::File>() {
            let (key, component) = (row.file, row.component);
            let Some(path) = self.path(folders.get(component).copied().unwrap_or(""), names::long(row.file_name))
            else {
                continue;
            };
            let size = u64::try_from(row.file_size).unwrap_or(0);
            let content = contents.get(key).copied();
            self.tree.push(Node::File { path: path.clone(), mode: 0o644, size, content });
            self.files.insert(key, path);
        }
        for row in self.db.each::<rows::DuplicateFile>() {
            let Some(to) = self.files.get(row.file).cloned() else { continue };
            let name = names::long(row.dest_name);
            let name = if name.is_empty() { to.name().to_owned() } else { name.to_owned() };
            if let Some(path) = self.path(row.dest_folder, &name) {
                self.tree.push(Node::HardLink { path, to });
            }
        }
    }

    fn read_programs(&mut self) {
        for row in self.db.each::<ProgramRow>() {
            let Ok(file) = RelPath::new(row.file) else { continue };
            let own = command_line::arguments(row.arguments);
            let folder = row.working_folder;
            let working_folder = match folder {
                "" => WorkingFolder::Unchanged,
                "home" => WorkingFolder::Home,
                "install" => WorkingFolder::Install,
                inside => match inside.strip_prefix("install/").map(RelPath::new) {
                    Some(Ok(path)) => WorkingFolder::Inside(path),
                    _ => WorkingFolder::Unchanged,
                },
            };
            let key = row.program.to_owned();
            let (of_key, of_file) = (key.clone(), file.clone());
            self.commands.push(Command { key: of_key, file: of_file, arguments: line_arguments(&own) });
            let console = row.console == 1;
            self.programs.push(Program { arguments: own, working_folder, console, ..Program::plain(key, file) });
        }
        self.commands.sort();
    }

    /// The program that a command starts; one that the package does not name is made up from its file.
    fn command(&mut self, file: &RelPath, all: &[String]) -> Option<(String, Vec<String>)> {
        if let Some(found) = program_of(&self.commands, file, all) {
            return Some(found);
        }
        let stem = file.name().split('.').next().unwrap_or_default().to_lowercase();
        let key: String = stem.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '-' }).collect();
        let is_taken = self.commands.iter().any(|c| c.key == key);
        let key = if is_taken { format!("{key}-{}", self.commands.len()) } else { key };
        self.commands.push(Command { key: key.clone(), file: file.clone(), arguments: Vec::new() });
        self.programs.push(Program::plain(key.clone(), file.clone()));
        Some((key, all.to_vec()))
    }

    fn read_shortcuts(&mut self) {
        let mut shortcuts = Vec::new();
        for row in self.db.each::<rows::Shortcut>() {
            let name: Text = names::long(row.name).into();
            let mut folder = row.directory;
            let mut steps = 0;
            // Shortcuts of others often stand in a folder of the menu.
            let place = loop {
                match folder {
                    "ProgramMenuFolder" | "StartMenuFolder" => break Some(Place::Menu),
                    "DesktopFolder" => break Some(Place::Desktop),
                    "StartupFolder" => break Some(Place::Startup),
                    _ => {}
                }
                let above =
                    self.db.each::<rows::Directory>().find(|r| r.directory == folder).map(|r| r.directory_parent);
                steps += 1;
                match above {
                    Some(parent) if !parent.is_empty() && steps < 20 => folder = parent,
                    _ => break None,
                }
            };
            let target = row.target;
            let key = target.strip_prefix("[#").and_then(|t| t.strip_suffix(']'));
            let advertised = || self.component_files.get(row.component).copied();
            let file = key.or_else(advertised).and_then(|key| self.files.get(key)).cloned();
            let (Some(place), Some(file)) = (place, file) else {
                self.strange.insert(format!("the shortcut “{name}” to {target}"));
                continue;
            };
            let all = arguments(row.arguments);
            let description = Some(Text::from(row.description)).filter(|d| !d.is_empty());
            if let Some((program, arguments)) = self.command(&file, &all) {
                shortcuts.push(Shortcut { place, name, program, arguments, description });
            }
        }
        self.footprint.shortcuts = shortcuts.into();
    }

    fn read_services(&mut self) {
        let mut services = Vec::new();
        for row in self.db.each::<rows::ServiceInstall>() {
            let component = row.component;
            let name = unformatted(row.name);
            let Some(file) = self.component_files.get(component).and_then(|k| self.files.get(*k)).cloned() else {
                self.strange.insert(format!("the service {name}"));
                continue;
            };
            let all = arguments(row.arguments);
            let some = |text: &str| Some(text.to_owned()).filter(|t| !t.is_empty());
            let (title, account) = (unformatted(row.display_name), some(&unformatted(row.start_name)));
            let description = some(row.description);
            let start = match row.start_type {
                3 => ServiceStart::OnDemand,
                4 => ServiceStart::Disabled,
                _ => ServiceStart::Automatic,
            };
            if let Some((program, arguments)) = self.command(&file, &all) {
                services.push(Service { name, title, description, program, arguments, start, account });
            }
        }
        self.footprint.services = services.into();
    }

    fn read_environment(&mut self) {
        let mut variables = Vec::new();
        let mut seen = BTreeSet::new();
        for row in self.db.each::<rows::Environment>() {
            let name = row.name.trim_start_matches(['=', '-', '+', '*', '!']).to_owned();
            let value = row.value;
            // Ours says a variable once for each scope, and once more for where it would hide another one.
            let hides = value.contains(&format!("%{name}%")) && row.environment.ends_with(".h");
            if self.db.property("UpperShelfId").is_some() && (hides || !seen.insert(name.clone())) {
                continue;
            }
            let (action, value) = if let Some(rest) = value.strip_prefix("[~];") {
                (EnvironmentAction::Append, rest)
            } else if let Some(rest) = value.strip_suffix(";[~]") {
                (EnvironmentAction::Prepend, rest)
            } else {
                (EnvironmentAction::Set, value)
            };
            variables.push(Variable { name, action, value: unformatted(value) });
        }
        self.footprint.environment = variables.into();
    }

    fn read_choices(&mut self) {
        let mut choices = Vec::new();
        let mut of_feature: HashMap<&str, Vec<RelPath>> = HashMap::new();
        for row in self.db.each::<rows::FeatureComponents>() {
            let feature = row.feature;
            // Unseen parts belong to the feature that they are parts of.
            let feature =
                feature.rsplit_once('.').filter(|(_, n)| n.parse::<u32>().is_ok()).map_or(feature, |(f, _)| f);
            let file = self.component_files.get(row.component).and_then(|k| self.files.get(*k));
            of_feature.entry(feature).or_default().extend(file.cloned());
        }
        let ours = self.db.property("UpperShelfId").is_some();
        for row in self.db.each::<rows::Feature>() {
            let (feature, parent) = (row.feature, row.feature_parent);
            let key = match feature.strip_prefix("Choice.") {
                Some(key) if ours => key.replace('_', "-"),
                _ if ours => continue,
                // Of others: every feature that can be left out.
                _ if parent.is_empty() && self.db.each::<rows::Feature>().take(2).count() == 1 => continue,
                _ => feature.to_lowercase(),
            };
            // Unseen features are parts of others.
            if feature == MAIN || row.display == Some(0) {
                continue;
            }
            let mut files = of_feature.remove(feature).unwrap_or_default();
            files.sort();
            let title = Some(row.title).filter(|t| !t.is_empty()).unwrap_or(feature).into();
            let description = Some(Text::from(row.description)).filter(|d| !d.is_empty());
            let chosen = row.level == 1;
            choices.push(Choice { key, title, description, chosen, files });
        }
        self.footprint.choices = choices.into();
    }

    fn read_rules(&mut self) {
        let (mut rules, conditions) = rules::read(self.db);
        self.foreign.extend(conditions);
        // The folder between the system's folder of programs and the product's own.
        let rows: HashMap<&str, (&str, &str)> =
            self.db.each::<rows::Directory>().map(|r| (r.directory, (r.directory_parent, r.default_dir))).collect();
        let mut names = Vec::new();
        let mut at = "INSTALLDIR";
        while let Some((parent, name)) = rows.get(at)
            && names.len() < 10
            && !at.ends_with("Folder")
            && !matches!(at, "TARGETDIR" | "ProgramsOfPerson")
        {
            names.push(names::long(name));
            at = parent;
        }
        if !names.is_empty() {
            names.reverse();
            rules.folder = Some(names.join("/"));
        }
        let start = self.db.each::<rows::CustomAction>().find(|r| r.action == "StartProgram");
        if let Some(row) = start
            && let Some(file) = self.files.get(row.source).cloned()
            && let Some((program, _)) = self.command(&file, &arguments(row.target))
        {
            rules.start_at_end = Some(program);
        }
        self.footprint.install = rules;
    }
}
