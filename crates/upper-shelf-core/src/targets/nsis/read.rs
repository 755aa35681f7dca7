//! Setup programs, ours and others', read back into a footprint.

use super::program::{about_word, title_word};
use super::{rules, unread};
use crate::budget::{Budget, Package};
use crate::content::ContentHash;
use crate::footprint::{
    Choice, EnvironmentAction, FileType, Font, Footprint, Identity, InstallRules, LinkScheme, Node, Place, Program,
    RegistryEntry, RegistryRoot, RegistryValue, RegistryView, RelPath, Service, ServiceStart, Shortcut, Variable,
    WorkingFolder,
};
use crate::platform::Platform;
use crate::problem::Failure;
use crate::targets::Depth;
use crate::targets::order;
use nsis_archive::custom::{Custom, Step, kind};
use nsis_archive::read::{Archive, INSTALL, Item};
use nsis_archive::structs::op;
use nsis_archive::{Error, Result};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::fs::File;
use std::io::{self, BufReader, Read};
use std::path::Path;

type Open = Archive<BufReader<File>>;

fn open(package: &Package) -> std::result::Result<Option<Open>, Failure> {
    let mut file = File::open(package).map_err(|e| Failure::io("can't read", package, e))?;
    // Every such program begins as one for Windows: nothing else is searched.
    let mut magic = [0; 2];
    if file.read_exact(&mut magic).is_err() || magic != *b"MZ" {
        return Ok(None);
    }
    Archive::open(BufReader::with_capacity(1 << 16, file)).map_err(|e| unread(package, e))
}

/// A path in the footprint; `None` for what no product's folder has.
fn path(text: &str) -> Option<RelPath> {
    let rest = text.strip_prefix(INSTALL).unwrap_or(text);
    RelPath::new(rest.trim_start_matches('\\').replace('\\', "/")).ok()
}

/// The files with their paths; of two with the same one the later stays, as it would on a machine.
fn items(archive: &Open, budget: &Budget) -> Result<Vec<(Item, RelPath)>> {
    let named = archive.items()?.into_iter().filter(|i| !i.uninstaller).filter_map(|i| path(&i.path).map(|p| (i, p)));
    let mut last: HashMap<String, usize> = HashMap::new();
    let all: Vec<(Item, RelPath)> = named.collect();
    all.iter().try_for_each(|(_, path)| budget.name(path.as_str())).map_err(io::Error::from)?;
    for (n, (_, path)) in all.iter().enumerate() {
        last.insert(path.as_str().to_lowercase(), n);
    }
    let is_last = |n: usize, path: &RelPath| last.get(&path.as_str().to_lowercase()) == Some(&n);
    Ok(all.into_iter().enumerate().filter(|(n, (_, p))| is_last(*n, p)).map(|(_, i)| i).collect())
}

/// Hands out the bytes of each file.
pub fn files(package: &Package, visit: crate::targets::Visit) -> std::result::Result<(), Failure> {
    let Some(mut archive) = open(package)? else { return Ok(()) };
    let unlimited = Budget::new(u64::MAX, u64::MAX);
    // The names were counted when it was read.
    let result = items(&archive, &unlimited).and_then(|named| {
        let (items, paths): (Vec<Item>, Vec<RelPath>) = named.into_iter().unzip();
        archive.walk(&items, |n, _, bytes| visit(&paths[n], &mut package.budget.meter(bytes)))
    });
    result.map_err(|e| unread(package, e))
}

pub fn findings(package: &Package) -> std::result::Result<Vec<String>, Failure> {
    let Some(mut archive) = open(package)? else { return Ok(Vec::new()) };
    let bad = |e: Error| unread(package, e);
    let mut findings = archive.findings().map_err(bad)?;
    findings.extend(refused_by_the_head(&archive).map_err(bad)?);
    Ok(findings)
}

/// Paths of a package of ours that its own head would not take: by the very function that the head asks.
fn refused_by_the_head(archive: &Open) -> Result<Vec<String>> {
    let steps = archive.steps()?;
    if !steps.iter().any(|s| matches!(s, Step::Custom(n) if n.kind == kind::PRODUCT)) {
        return Ok(Vec::new());
    }
    let mut places: Vec<i32> = Vec::new();
    for step in &steps {
        match step {
            Step::Entry([op::FOLDER, at, ..]) | Step::Entry([op::FILE, _, at, ..]) => places.push(*at),
            Step::Entry(_) => {}
            Step::Custom(custom) => {
                let of_paths: &[usize] = match custom.kind {
                    kind::PROGRAM => &[1, 3],
                    kind::FONT => &[0],
                    kind::HARD_LINK => &[0, 1],
                    _ => &[],
                };
                places.extend(of_paths.iter().filter_map(|n| custom.numbers.get(*n)));
            }
        }
    }
    let mut findings = Vec::new();
    for at in places.into_iter().filter(|at| *at >= 0) {
        let units = archive.units(at)?;
        if setup_rules::path::inside(&units).is_none() {
            let text = String::from_utf16_lossy(&units).replace('\u{1}', INSTALL);
            findings.push(format!("its head refuses the path {text:?}"));
        }
    }
    findings.truncate(20);
    Ok(findings)
}

/// The footprint; `None` for another format, or for the other kind of program.
pub fn read(package: &Package, depth: Depth, portable: bool) -> std::result::Result<Option<Footprint>, Failure> {
    let Some(mut archive) = open(package)? else { return Ok(None) };
    let bad = |e: Error| unread(package, e);
    let steps = archive.steps().map_err(bad)?;
    let is_portable = steps.iter().any(|s| matches!(s, Step::Custom(n) if n.kind == kind::PORTABLE));
    if is_portable != portable {
        return Ok(None);
    }
    let mut reader = Reader::default();
    reader.steps(&archive, &steps).map_err(bad)?;
    let sizes = sizes(&mut archive, depth, reader.is_ours, &package.budget).map_err(bad)?;
    for (path, (size, content)) in sizes {
        reader.tree.push(Node::File { path, mode: 0o644, size, content });
    }
    let (platform, version) = of_head(package, archive.start);
    if !reader.is_ours {
        reader.identity = version;
    }
    Ok(Some(reader.footprint(platform)))
}

type Sizes = BTreeMap<RelPath, (u64, Option<ContentHash>)>;

fn sizes(archive: &mut Open, depth: Depth, is_ours: bool, budget: &Budget) -> Result<Sizes> {
    let mut all = Sizes::new();
    let named = items(archive, budget)?;
    // Our own lie one behind the other, each behind its length; others' lengths stand in the stream only.
    if depth == Depth::Listing && is_ours {
        let mut offsets: Vec<u32> = archive.items()?.iter().map(|i| i.offset).collect();
        offsets.sort_unstable();
        let end = end_of_files(archive)?;
        for (item, path) in named {
            let next = offsets.get(offsets.partition_point(|o| *o <= item.offset)).copied();
            let next = next.map_or(end, u64::from);
            let size = next.checked_sub(u64::from(item.offset) + 4);
            let size = size.ok_or(Error::Limit("the files' offsets are not in order"))?;
            all.insert(path, (size, None));
        }
        return Ok(all);
    }
    let (items, paths): (Vec<Item>, Vec<RelPath>) = named.into_iter().unzip();
    archive.walk(&items, |n, size, bytes| {
        let content = match depth {
            Depth::Listing => None,
            Depth::Contents => {
                let mut hasher = blake3::Hasher::new();
                io::copy(&mut budget.meter(bytes), &mut hasher)?;
                Some(ContentHash(*hasher.finalize().as_bytes()))
            }
        };
        all.insert(paths[n].clone(), (size.into(), content));
        Ok(())
    })?;
    Ok(all)
}

/// Where the last file ends in the stream, as the instructions say.
fn end_of_files(archive: &Open) -> Result<u64> {
    for step in archive.steps()? {
        if let Step::Custom(Custom { kind: kind::FILES, numbers }) = step
            && let [count, low, high] = numbers[..]
        {
            return Ok((u64::from(low as u32) | u64::from(high as u32) << 32) + 4 * u64::from(count as u32));
        }
    }
    Err(Error::Limit("it doesn't say how long its files are"))
}

/// Processor and version information of the program in front.
fn of_head(package: &Path, length: u64) -> (Option<Platform>, Identity) {
    let mut head = Vec::new();
    let read = File::open(package).and_then(|f| f.take(length).read_to_end(&mut head));
    let Ok(image) = read.map_err(drop).and_then(|_| pe_image::Image::parse(&head).map_err(drop)) else {
        return (None, Identity::default());
    };
    let platform = match image.machine() {
        0x8664 => Some(Platform::WindowsX64),
        0x14C => Some(Platform::WindowsX86),
        0xAA64 => Some(Platform::WindowsArm64),
        _ => None,
    };
    let version = image.resources().ok().and_then(|r| pe_image::Version::read(&r).ok().flatten());
    let text = |key: &str| version.as_ref().and_then(|v| v.texts.get(key)).map(|t| t.trim().to_owned());
    let identity = Identity {
        name: text("ProductName"),
        version: text("ProductVersion").or_else(|| text("FileVersion")),
        publisher: text("CompanyName"),
        ..Identity::default()
    };
    (platform, identity)
}

#[derive(Default)]
struct Reader {
    identity: Identity,
    tree: Vec<Node>,
    programs: Vec<Program>,
    shortcuts: Vec<Shortcut>,
    file_types: Vec<FileType>,
    link_schemes: Vec<LinkScheme>,
    environment: Vec<Variable>,
    registry: Vec<RegistryEntry>,
    services: Vec<Service>,
    fonts: Vec<Font>,
    choices: Vec<Choice>,
    /// Words of choices by their places among the wizard's, and what they are in each language.
    words: BTreeMap<i32, String>,
    said: BTreeMap<(String, String), String>,
    install: InstallRules,
    is_ours: bool,
}

/// Takes the numbers of a custom instruction one after the other.
struct Numbers<'a> {
    archive: &'a Open,
    numbers: std::slice::Iter<'a, i32>,
}

fn bad() -> Error {
    Error::Limit("an instruction is not understood")
}

impl Numbers<'_> {
    fn number(&mut self) -> Result<i32> {
        self.numbers.next().copied().ok_or_else(bad)
    }
    fn maybe(&mut self) -> Result<Option<String>> {
        match self.number()? {
            -1 => Ok(None),
            at => self.archive.text(at).map(Some),
        }
    }
    fn text(&mut self) -> Result<String> {
        self.maybe()?.ok_or_else(bad)
    }
    fn path(&mut self) -> Result<RelPath> {
        path(&self.text()?).ok_or_else(bad)
    }
    fn list(&mut self) -> Result<Vec<String>> {
        let count = self.number()?;
        (0..count).map(|_| self.text()).collect()
    }
}

impl Reader {
    fn footprint(self, platform: Option<Platform>) -> Footprint {
        Footprint {
            product: self.identity,
            platform,
            tree: self.tree.into(),
            programs: self.programs.into(),
            shortcuts: self.shortcuts.into(),
            file_types: self.file_types.into(),
            link_schemes: self.link_schemes.into(),
            environment: self.environment.into(),
            registry: self.registry.into(),
            services: self.services.into(),
            fonts: self.fonts.into(),
            choices: self.choices.into(),
            install: self.install,
            ..Footprint::default()
        }
    }

    fn steps(&mut self, archive: &Open, steps: &[Step]) -> Result<()> {
        let (mut folder, mut choice, mut kept) = (String::from(INSTALL), -1, false);
        let mut of_choices: BTreeMap<usize, Vec<RelPath>> = BTreeMap::new();
        let mut folders: BTreeSet<RelPath> = BTreeSet::new();
        for step in steps {
            match step {
                Step::Entry([op::FOLDER, at, into, ..]) => {
                    let text = archive.within(*at, &folder)?;
                    if *into == 1 {
                        folder = text;
                    } else {
                        folders.extend(path(&text));
                    }
                }
                Step::Entry([op::FILE, _, name, ..]) if choice >= 0 || kept => {
                    let Some(path) = path(&format!("{folder}\\{}", archive.text(*name)?)) else { continue };
                    if kept {
                        self.install.keep_changed.insert(path.clone());
                    }
                    if let Ok(n) = usize::try_from(choice) {
                        of_choices.entry(n).or_default().push(path);
                    }
                }
                Step::Entry(_) => {}
                Step::Custom(Custom { kind: kind::OF_CHOICE, numbers }) => {
                    choice = numbers.first().copied().unwrap_or(-1)
                }
                Step::Custom(Custom { kind: kind::KEPT, numbers }) => kept = numbers.first() == Some(&1),
                Step::Custom(custom) => self.custom(archive, custom)?,
            }
        }
        self.tree.extend(folders.into_iter().map(|path| Node::Folder { path, mode: 0o755 }));
        self.translate();
        for (n, choice) in self.choices.iter_mut().enumerate() {
            choice.files = of_choices.remove(&n).unwrap_or_default();
            choice.files.sort();
        }
        Ok(())
    }

    /// What choices are called in the languages of the wizard.
    fn translate(&mut self) {
        for choice in &mut self.choices {
            let (title, about) = (title_word(&choice.key), about_word(&choice.key));
            for ((word, code), text) in self.said.iter().filter(|(_, text)| !text.is_empty()) {
                match &mut choice.description {
                    _ if *word == title => choice.title.add(code, text),
                    Some(description) if *word == about => description.add(code, text),
                    _ => {}
                }
            }
        }
    }

    fn custom(&mut self, archive: &Open, custom: &Custom) -> Result<()> {
        let mut n = Numbers { archive, numbers: custom.numbers.iter() };
        match custom.kind {
            kind::PRODUCT => {
                self.is_ours = true;
                self.identity = Identity {
                    id: n.maybe()?,
                    name: n.maybe()?,
                    version: n.maybe()?,
                    publisher: n.maybe()?,
                    summary: n.maybe()?.map(Into::into),
                    homepage: n.maybe()?,
                    support: n.maybe()?,
                    ..Identity::default()
                };
            }
            kind::RULE => {
                let name = n.text()?;
                rules::read(&name, n.text()?, &mut self.install);
            }
            kind::PROGRAM => {
                let (key, file, working, at, console) =
                    (n.text()?, n.path()?, n.number()?, n.text()?, n.number()? == 1);
                let working_folder = match working {
                    1 => WorkingFolder::Home,
                    2 => WorkingFolder::Install,
                    3 => WorkingFolder::Inside(path(&at).ok_or_else(bad)?),
                    _ => WorkingFolder::Unchanged,
                };
                let arguments = n.list()?;
                self.programs.push(Program { arguments, working_folder, console, ..Program::plain(key, file) });
            }
            kind::SHORTCUT => {
                let place = match n.number()? {
                    0 => Place::Menu,
                    1 => Place::Desktop,
                    _ => Place::Startup,
                };
                let (name, program) = (n.text()?.into(), n.text()?);
                let description = n.maybe()?.map(Into::into);
                self.shortcuts.push(Shortcut { place, name, program, arguments: n.list()?, description });
            }
            kind::FILE_TYPE => {
                let (mime, name, program) = (n.text()?, n.text()?, n.text()?);
                self.file_types.push(FileType { mime, extensions: n.list()?, name: name.into(), program });
            }
            kind::LINK_SCHEME => self.link_schemes.push(LinkScheme { scheme: n.text()?, program: n.text()? }),
            kind::ENVIRONMENT => {
                let (name, action) = (n.text()?, n.number()?);
                let action = match action {
                    0 => EnvironmentAction::Set,
                    1 => EnvironmentAction::Prepend,
                    _ => EnvironmentAction::Append,
                };
                self.environment.push(Variable { name, action, value: n.text()? });
            }
            kind::REGISTRY => {
                let entry = registry(&mut n)?;
                // The setup program's own.
                if order::entry(&self.identity).is_none_or(|own| own != entry) {
                    self.registry.push(entry);
                }
            }
            kind::SERVICE => {
                let (name, title, description, program) = (n.text()?, n.text()?, n.maybe()?, n.text()?);
                let start = match n.number()? {
                    0 => ServiceStart::Automatic,
                    1 => ServiceStart::OnDemand,
                    _ => ServiceStart::Disabled,
                };
                let account = n.maybe()?;
                let arguments = n.list()?;
                self.services.push(Service { name, title, description, program, arguments, start, account });
            }
            kind::FONT => self.fonts.push(Font { file: n.path()?, title: n.text()? }),
            kind::CHOICE => {
                let (key, title) = (n.text()?, n.text()?.into());
                let description = n.maybe()?.map(Into::into);
                let chosen = n.number()? == 1;
                self.choices.push(Choice { key, title, description, chosen, files: Vec::new() });
            }
            kind::HARD_LINK => self.tree.push(Node::HardLink { path: n.path()?, to: n.path()? }),
            kind::WORDS => {
                for at in 0..n.number()? {
                    let word = n.text()?;
                    // Of all words only those of choices are of interest.
                    if word.starts_with(&title_word("")) || word.starts_with(&about_word("")) {
                        self.words.insert(at, word);
                    }
                }
            }
            kind::LANGUAGE => {
                let (code, numbers) = (n.text()?, n.number()?);
                for _ in 0..numbers {
                    n.number()?;
                }
                for at in 0..n.number()? {
                    match self.words.get(&at) {
                        Some(word) => drop(self.said.insert((word.clone(), code.clone()), n.text()?)),
                        None => drop(n.number()?),
                    }
                }
            }
            // Pages, and whatever a later version says.
            _ => {}
        }
        Ok(())
    }
}

fn registry(n: &mut Numbers) -> Result<RegistryEntry> {
    let root = match n.number()? {
        1 => RegistryRoot::Machine,
        2 => RegistryRoot::User,
        _ => RegistryRoot::Installed,
    };
    let view = if n.number()? == 1 { RegistryView::Bits32 } else { RegistryView::Own };
    let (key, name, kind) = (n.text()?, n.maybe()?, n.number()?);
    let value = if kind == 2 {
        RegistryValue::Number(n.number()? as u32)
    } else {
        let texts = n.list()?;
        let first = || texts.first().cloned().unwrap_or_default();
        match kind {
            1 => RegistryValue::Expandable(first()),
            3 => RegistryValue::Bytes(first()),
            4 => RegistryValue::List(texts),
            _ => RegistryValue::Text(first()),
        }
    };
    Ok(RegistryEntry { root, view, key, name, value })
}
