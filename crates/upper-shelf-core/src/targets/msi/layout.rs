//! From a footprint to the tables of a database, all but what is only known when every file has been read.

mod offers;

use super::codes::{self, key};
use super::names::ShortNames;
use super::words::formatted;
use super::{dialogs, registry, rules, sequences};
use crate::footprint::{Choice, Footprint, Node, Place, RelPath, Scope, WorkingFolder};
use crate::guid::guid;
use crate::platform::Platform;
use crate::targets::Job;
use msi_database::database::{Database, Value};
use msi_database::rows;
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

/// More rows than this never refer to the same string: counts of references have 16 bits.
const SHARED: usize = 30_000;
/// The component of everything that belongs to no file.
pub const SETTINGS: &str = "CSettings";
/// A feature is there or not: none of its parts could come when it is first used.
const NO_ADVERTISING: i32 = 8;
/// The root of features.
pub const MAIN: &str = "Main";
/// The icon that shortcuts and the list of applications show.
pub const ICON: &str = "product.ico";

pub type Result<T> = msi_database::Result<T>;

/// What is laid out for a file.
pub struct FileRow {
    pub key: Value,
    pub component: Value,
    pub name: Value,
    pub version: Option<(String, String)>,
}

pub struct Layout<'j> {
    pub job: &'j Job<'j>,
    pub db: Database,
    pub files: Vec<FileRow>,
    pub bits64: bool,
    id: String,
    directories: HashMap<String, String>,
    /// By path: file key and component.
    by_path: HashMap<&'j RelPath, (Value, Value)>,
    names: ShortNames,
    /// Features that take components: how many each has, and how many there are of it.
    features: BTreeMap<String, (usize, usize)>,
    /// The choice that a file belongs to, by its feature.
    choices: HashMap<&'j RelPath, String>,
    /// Folders that components make.
    created: HashSet<(String, String)>,
    /// What the system is asked for before anything is changed, with the number of the next question.
    asked: usize,
    /// Properties that a user's own process hands to the one with more rights.
    pub secure: Vec<String>,
}

pub fn is_64(footprint: &Footprint) -> bool {
    !matches!(footprint.platform, Some(Platform::WindowsX86))
}

impl<'j> Layout<'j> {
    /// Lays everything out but the files' rows.
    pub fn new(job: &'j Job<'j>) -> Result<Self> {
        let id = job.footprint.product.id.clone().unwrap_or_default();
        let mut it = Self {
            job,
            db: Database::new(),
            files: Vec::new(),
            bits64: is_64(job.footprint),
            id,
            directories: HashMap::new(),
            by_path: HashMap::new(),
            names: ShortNames::default(),
            features: BTreeMap::new(),
            choices: choices_of(job.footprint),
            created: HashSet::new(),
            asked: 0,
            secure: Vec::new(),
        };
        // A new list of a footprint is written by one of these, or not at all: the compiler asks here.
        let Footprint {
            product: _,
            platform: _,
            tree: _,
            programs: _,
            shortcuts: _,
            file_types: _,
            link_schemes: _,
            environment: _,
            registry: _,
            services: _,
            fonts: _,
            commands: _,
            shell_files: _,
            permissions: _,
            choices: _,
            icons: _,
            install: _,
            bundle: _,
            foreign: _,
        } = job.footprint;
        it.name_deepest_first();
        it.directories()?;
        it.file_components()?;
        it.other_folders()?;
        it.settings()?;
        it.folders_with_folders()?;
        it.programs()?;
        it.shortcuts()?;
        registry::write(&mut it)?;
        it.environment()?;
        it.services()?;
        it.feature_tree()?;
        rules::properties(&mut it)?;
        sequences::write(&mut it)?;
        dialogs::write(&mut it)?;
        Ok(it)
    }

    /// The stable GUID of a component.
    pub fn component_guid(&self, place: &str) -> String {
        let platform = self.job.footprint.platform.map_or("", Platform::name);
        guid(&[b"component", self.id.as_bytes(), platform.as_bytes(), place.to_lowercase().as_bytes()])
    }

    pub fn bit_attribute(&self) -> i32 {
        if self.bits64 { 256 } else { 0 }
    }

    /// Rows are in the order in which their keys' strings came: folders inside others come first, so that they are
    /// also taken away first.
    fn name_deepest_first(&mut self) {
        let mut folders: Vec<&RelPath> =
            self.job.footprint.tree.iter().filter(|node| node.is_folder()).map(Node::path).collect();
        folders.sort_by_key(|p| std::cmp::Reverse(p.as_str().split('/').count()));
        for folder in folders {
            self.db.text(&key('D', folder.as_str(), folder.name()));
        }
        self.db.text("INSTALLDIR");
    }

    /// A component makes a folder, and takes it away again when it is empty.
    fn creates(&mut self, folder: &str, component: &str) -> Result<()> {
        if !self.created.insert((folder.to_owned(), component.to_owned())) {
            return Ok(());
        }
        self.db.add(&rows::CreateFolder { directory: folder, component })
    }

    /// The choices whose files alone are below a folder, each with a component of its own there; nothing if the folder is
    /// always there.
    fn only_of_choices(&self) -> BTreeMap<RelPath, BTreeMap<String, String>> {
        let mut all: BTreeMap<RelPath, Option<BTreeMap<String, String>>> = BTreeMap::new();
        if self.choices.is_empty() {
            return BTreeMap::new();
        }
        for file in self.job.files {
            let mut above = file.path.parent();
            while let Some(folder) = above {
                let of = all.entry(folder.clone()).or_insert_with(|| Some(BTreeMap::new()));
                match (of.as_mut(), self.choices.get(&file.path), self.file(&file.path)) {
                    (Some(of), Some(choice), Some((_, component))) => _ = of.entry(choice.clone()).or_insert(component),
                    _ => *of = None,
                }
                above = folder.parent();
            }
        }
        all.into_iter().filter_map(|(folder, of)| of.map(|of| (folder, of))).collect()
    }

    /// A folder that holds folders is only empty when those are gone: it is looked at again after all files.
    fn folders_with_folders(&mut self) -> Result<()> {
        let job = self.job;
        let of_choices = self.only_of_choices();
        let mut parents: BTreeSet<Option<RelPath>> = [None].into();
        for node in &job.footprint.tree {
            if let Node::Folder { path, .. } = node
                && let Some(parent) = path.parent()
                && parents.len() < SHARED
            {
                parents.insert(Some(parent));
            }
        }
        for parent in parents {
            let only = parent.as_ref().and_then(|p| of_choices.get(p)).filter(|of| !of.is_empty());
            let folder = self.folder_key(parent.clone())?;
            match only {
                None => self.creates(&folder, SETTINGS)?,
                Some(of) => of.values().try_for_each(|component| self.creates(&folder, component))?,
            }
        }
        // In a user's own folders the rules ask for a row that takes each folder away (ICE64).
        if job.footprint.install.scope() == Scope::User {
            let own: Vec<String> = self.directories.values().cloned().collect();
            let others = self.db.each::<rows::Directory>().map(|r| r.directory.to_owned());
            let above = others.filter(|d| d == "INSTALLDIR" || d == "ProgramsOfPerson" || d.starts_with("ABOVE"));
            let all: BTreeSet<String> = own.into_iter().chain(above).collect();
            for folder in all {
                self.db.add(&rows::RemoveFile {
                    file_key: &format!("Empty.{folder}"),
                    component: SETTINGS,
                    dir_property: &folder,
                    // When the component goes.
                    install_mode: 2,
                    ..Default::default()
                })?;
            }
        }
        Ok(())
    }

    fn directory(&mut self, key: &str, parent: &str, name: &str) -> Result<()> {
        self.db.add(&rows::Directory { directory: key, directory_parent: parent, default_dir: name })
    }

    /// The system's folder of 32-bit programs.
    pub fn programs_of_32_bits(&mut self) -> Result<&'static str> {
        const KEY: &str = "ProgramFilesFolder";
        if !self.db.each::<rows::Directory>().any(|r| r.directory == KEY) {
            self.directory(KEY, "TARGETDIR", ".")?;
        }
        Ok(KEY)
    }

    fn directories(&mut self) -> Result<()> {
        let programs = rules::programs_folder(self.job.footprint);
        self.directory("TARGETDIR", "", "SourceDir")?;
        for standard in [programs.0, "ProgramMenuFolder", "DesktopFolder", "StartupFolder"] {
            self.directory(standard, "TARGETDIR", ".")?;
        }
        let mut parent = programs.0.to_owned();
        if let Some(below) = programs.1 {
            self.directory("ProgramsOfPerson", programs.0, below)?;
            parent = "ProgramsOfPerson".into();
        }
        let folder = self.job.footprint.install.folder.as_deref().unwrap_or("Product").to_owned();
        let names: Vec<&str> = folder.split('/').collect();
        for (n, name) in names.iter().enumerate() {
            let key = if n + 1 == names.len() { "INSTALLDIR".to_owned() } else { format!("ABOVE{n}") };
            let text = ShortNames::default().text("", name);
            self.directory(&key, &parent, &text)?;
            parent = key;
        }
        // Names that are short already come first, so that no made one takes theirs.
        let paths: Vec<&RelPath> = self.job.footprint.tree.iter().map(Node::path).collect();
        for path in paths {
            let folder = path.parent().map_or(String::new(), |p| p.to_string());
            self.names.reserve(&folder, path.name());
        }
        Ok(())
    }

    /// The key of a folder's row, which is made with those above it when it is first asked for.
    pub fn folder_key(&mut self, path: Option<RelPath>) -> Result<String> {
        let Some(path) = path else { return Ok("INSTALLDIR".into()) };
        if let Some(key) = self.directories.get(path.as_str()) {
            return Ok(key.clone());
        }
        let parent = self.folder_key(path.parent())?;
        let above = path.parent().map_or(String::new(), |p| p.to_string());
        let name = self.names.text(&above, path.name());
        let key = key('D', path.as_str(), path.name());
        self.directory(&key, &parent, &name)?;
        self.directories.insert(path.to_string(), key.clone());
        Ok(key)
    }

    fn file_components(&mut self) -> Result<()> {
        let mut in_folder: HashMap<String, usize> = HashMap::new();
        let job = self.job;
        for file in job.files {
            let folder = self.folder_key(file.path.parent())?;
            let count = in_folder.entry(folder.clone()).or_default();
            let (again, first) = (*count / SHARED, count.is_multiple_of(SHARED));
            *count += 1;
            // The same folder once more: `.` stands for its parent.
            let place = if again == 0 { folder.clone() } else { format!("{folder}.{again}") };
            if again > 0 && first {
                self.directory(&place, &folder, ".")?;
            }
            let above = file.path.parent().map_or(String::new(), |p| p.to_string());
            let name = self.names.text(&above, file.path.name());
            let (file_key, component) =
                (key('F', file.path.as_str(), file.path.name()), key('C', file.path.as_str(), file.path.name()));
            self.db.add(&rows::Component {
                component: &component,
                component_id: &self.component_guid(file.path.as_str()),
                directory: &place,
                attributes: self.bit_attribute(),
                key_path: &file_key,
                ..Default::default()
            })?;
            let choice = self.choices.get(&file.path).cloned();
            self.in_feature(choice.as_deref(), &component)?;
            let version = super::pe::version(file);
            let (key, component, name) = (self.db.text(&file_key), self.db.text(&component), self.db.text(&name));
            self.by_path.insert(&file.path, (key, component));
            self.files.push(FileRow { key, component, name, version });
        }
        Ok(())
    }

    /// File key and component of a program's file.
    pub fn program(&self, wanted: &str) -> Option<(String, String, &'j [String], &'j WorkingFolder)> {
        let program = self.job.footprint.program(wanted)?;
        let (key, component) = self.file(&program.file)?;
        Some((key, component, &program.arguments, &program.working_folder))
    }

    /// File key and component of a path.
    pub fn file(&self, path: &RelPath) -> Option<(String, String)> {
        let (key, component) = self.by_path.get(path)?;
        Some((self.db.str(*key).to_owned(), self.db.str(*component).to_owned()))
    }

    /// Puts a component into a feature; a feature that has enough gets a further, unseen one.
    fn in_feature(&mut self, choice: Option<&str>, component: &str) -> Result<()> {
        let feature = choice.unwrap_or(MAIN);
        let (held, parts) = self.features.entry(feature.to_owned()).or_insert((0, 1));
        *held += 1;
        if *held > SHARED {
            (*held, *parts) = (1, *parts + 1);
        }
        let part = if *parts == 1 { feature.to_owned() } else { format!("{feature}.{parts}") };
        self.db.add(&rows::FeatureComponents { feature: &part, component })
    }

    /// Folders that no file brings.
    fn other_folders(&mut self) -> Result<()> {
        let folders: Vec<RelPath> =
            self.job.footprint.tree.iter().filter(|node| node.is_folder()).map(|node| node.path().clone()).collect();
        let of_choices = self.only_of_choices();
        for path in folders {
            if self.directories.contains_key(path.as_str()) {
                continue;
            }
            let folder = self.folder_key(Some(path.clone()))?;
            let component = key('E', path.as_str(), path.name());
            self.db.add(&rows::Component {
                component: &component,
                component_id: &self.component_guid(&format!("{path}/")),
                directory: &folder,
                attributes: self.bit_attribute(),
                ..Default::default()
            })?;
            self.creates(&folder, &component)?;
            match of_choices.get(&path).filter(|of| !of.is_empty()) {
                None => self.in_feature(None, &component)?,
                Some(of) => of.keys().try_for_each(|choice| self.in_feature(Some(choice), &component))?,
            }
        }
        Ok(())
    }

    /// A component that a registry value stands for.
    pub fn registry_component(&mut self, component: &str, bits: i32, condition: &str, key_path: &str) -> Result<()> {
        self.component_in("INSTALLDIR", component, bits, condition, key_path, None)
    }

    /// The same in a folder, and in the feature of a choice.
    pub fn component_in(
        &mut self,
        folder: &str,
        component: &str,
        bits: i32,
        condition: &str,
        key_path: &str,
        choice: Option<&str>,
    ) -> Result<()> {
        self.db.add(&rows::Component {
            component,
            component_id: &self.component_guid(&format!(":{component}")),
            directory: folder,
            attributes: bits | 4,
            condition,
            key_path,
        })?;
        self.in_feature(choice, component)
    }

    /// The choice that a program's file belongs to.
    pub fn choice_of(&self, program: &str) -> Option<String> {
        self.choices.get(&self.job.footprint.program(program)?.file).cloned()
    }

    /// A property that has what a registry value says before anything is changed.
    pub fn ask(&mut self, what: &str, root: i32, key: &str, name: &str) -> Result<String> {
        self.asked += 1;
        let property = format!("{what}{}", self.asked);
        rules::locator(self, &property, &format!("S{property}"), root, key, name)?;
        self.secure.push(property.clone());
        Ok(property)
    }

    /// The component of what only one program may have: a kind of file, or of link. It is there when nobody else has it,
    /// and when it was this product's before.
    pub fn claim(&mut self, class: &str, below: &str, ours: &dyn Fn(&str) -> String, program: &str) -> Result<String> {
        let key = format!("{}{below}", formatted(class));
        // What everybody sees: the machine's and the user's classes in one.
        let found = self.ask("CLAIMED", 0, &key, "")?;
        let component = codes::key('K', class, class);
        let condition = format!("NOT {found} OR {}", ours(&found));
        let mark = format!("R{component}");
        let choice = self.choice_of(program);
        self.component_in("INSTALLDIR", &component, self.bit_attribute(), &condition, &mark, choice.as_deref())?;
        let at = self.own_key();
        self.registry_row(&mark, -1, &at, &component, "#1", &component)?;
        Ok(component)
    }

    pub fn registry_row(
        &mut self,
        key: &str,
        root: i32,
        at: &str,
        name: &str,
        value: &str,
        component: &str,
    ) -> Result<()> {
        self.db.add(&rows::Registry { registry: key, root, key: at, name, value, component })
    }

    /// Our own key in the registry.
    pub fn own_key(&self) -> String {
        format!("Software\\{}", formatted(&self.id))
    }

    /// The folder that was chosen is remembered for the next version.
    fn settings(&mut self) -> Result<()> {
        self.registry_component(SETTINGS, self.bit_attribute(), "", "RFolder")?;
        let at = self.own_key();
        self.registry_row("RFolder", -1, &at, "InstallFolder", "[INSTALLDIR]", SETTINGS)?;
        // What was chosen, for the next version: an empty property must leave a value too, so there is a letter before it.
        for place in [Place::Desktop, Place::Startup] {
            if let Some((property, name)) = switch(place).zip(remembered(place))
                && self.job.footprint.has_shortcut_in(place)
            {
                let value = format!("x[{property}]");
                self.registry_row(&format!("R{name}"), -1, &at, name, &value, SETTINGS)?;
            }
        }
        Ok(())
    }

    fn feature_tree(&mut self) -> Result<()> {
        let title = self.job.footprint.product.name.clone().unwrap_or_default();
        self.feature(MAIN, "", &title, "", 1, 1, 16 | NO_ADVERTISING)?;
        let mut display = 1;
        for Choice { key, title, description, chosen, .. } in &self.job.footprint.choices {
            display += 2;
            let level = if *chosen { 1 } else { 3 };
            self.feature(
                &choice_feature(key),
                MAIN,
                title,
                description.as_deref().unwrap_or_default(),
                display,
                level,
                NO_ADVERTISING,
            )?;
        }
        for (feature, (_, parts)) in self.features.clone() {
            for part in 2..=parts {
                // Unseen (display 0), and always as its parent (attribute 2).
                self.feature(&format!("{feature}.{part}"), &feature, &feature, "", 0, 1, 2 | 16 | NO_ADVERTISING)?;
            }
        }
        Ok(())
    }

    #[expect(clippy::too_many_arguments, reason = "the columns of the table")]
    fn feature(
        &mut self,
        key: &str,
        parent: &str,
        title: &str,
        text: &str,
        display: i32,
        level: i32,
        bits: i32,
    ) -> Result<()> {
        self.db.add(&rows::Feature {
            feature: key,
            feature_parent: parent,
            title,
            description: text,
            display: Some(display),
            level,
            directory: "INSTALLDIR",
            attributes: bits,
        })
    }

    /// The product code of this content.
    pub fn product_code(&self, digest: &[u8]) -> String {
        guid(&[b"product", self.id.as_bytes(), digest])
    }
}

/// Whether a product that asks for whom it is goes onto the machine for everyone.
pub const FOR_EVERYONE: &str = "ALLUSERS = 1 OR (ALLUSERS = 2 AND NOT MSIINSTALLPERUSER)";

/// The property that leaves a shortcut out.
pub fn switch(place: Place) -> Option<&'static str> {
    match place {
        Place::Menu => None,
        Place::Desktop => Some("DESKTOPSHORTCUT"),
        Place::Startup => Some("STARTWITHSYSTEM"),
    }
}

/// The value of the product's own key that remembers it.
pub fn remembered(place: Place) -> Option<&'static str> {
    match place {
        Place::Menu => None,
        Place::Desktop => Some("Desktop"),
        Place::Startup => Some("Startup"),
    }
}

/// The feature of a choice.
pub fn choice_feature(key: &str) -> String {
    let letters: String = key.chars().map(|c| if c == '-' { '_' } else { c }).collect();
    format!("Choice.{letters}")
}

/// Which file is in which choice's feature; the first choice wins.
fn choices_of(footprint: &Footprint) -> HashMap<&RelPath, String> {
    let mut all = HashMap::new();
    for Choice { key, files, .. } in &footprint.choices {
        for file in files {
            all.entry(file).or_insert_with(|| choice_feature(key));
        }
    }
    all
}

/// The upgrade code: the manifest's, or one made from the id.
pub fn upgrade_code(id: &str, stated: Option<&str>) -> String {
    stated.map_or_else(|| guid(&[b"upgrade", id.as_bytes()]), str::to_uppercase)
}
