//! The application bundle: the folder that macOS takes for a program. Its layout, its property list, and back.
//!
//! The product's own folder becomes `Contents/MacOS`, so that everything in it finds everything else where it was built
//! and tested. But code alone may stay there, for a signature's sake: what has no code in it lies in
//! `Contents/Resources`, and a link stands where it was.

mod carry;
pub mod code;
pub mod finished;
mod libraries;
pub mod list;
pub mod read;
mod types;

use super::Job;
use crate::footprint::{Node, Program, RelPath, WorkingFolder};
use crate::platform::Platform;
use crate::problem::{Code, Problem};
use crate::signing::macos::bundle_of;
pub use carry::{carry, stored};
use std::collections::{BTreeSet, HashSet};

/// Where the product's own folder is.
pub const CODE: &str = "Contents/MacOS";
/// Where what has no code in it is.
pub const DATA: &str = "Contents/Resources";
/// The picture's file, in [`DATA`].
pub const ICON: &str = "AppIcon.icns";
/// Folders of the product that have a place of their own in a bundle, beside [`CODE`]: what is in them is left as it is.
pub const OWN_PLACES: [&str; 4] = ["Frameworks", "Helpers", "PlugIns", "XPCServices"];

/// The seal.
pub const SEAL: &str = "Contents/_CodeSignature/CodeResources";

/// Its name, in whichever bundle.
pub const SEAL_NAME: &str = "_CodeSignature/CodeResources";

/// What the launcher starts, in [`DATA`].
const LAUNCH: &str = "UpperShelf.launch";

/// Something in a bundle that is no file of the payload.
pub enum Piece {
    /// A folder with its permission bits.
    Folder(u32),
    /// A link and where it leads.
    Link(String),
    /// A file of ours: permission bits, bytes.
    File(u32, Vec<u8>),
}

/// A bundle that everything has its place in.
pub struct Bundle {
    /// Its folder, such as `Combwright.app`.
    pub top: String,
    /// What is in it besides the payload's files: paths below the folder, each folder before what is in it.
    pub pieces: Vec<(String, Piece)>,
    /// What lies in [`DATA`], whole.
    moved: HashSet<RelPath>,
    /// Those of [`OWN_PLACES`] that are there.
    beside: BTreeSet<String>,
    /// Whether the payload brought it: then everything stays where it is.
    pub finished: bool,
}

/// A name that people read, as a file's name: a slash is a letter like others to them, and is stored as a colon; a colon
/// is none.
pub fn stored_name(name: &str) -> String {
    name.replace(':', "-").replace('/', ":")
}

/// Whether a path is one of some folders, or in one.
fn is_beside(folders: &BTreeSet<String>, path: &RelPath) -> bool {
    folders.contains(path.as_str().split('/').next().unwrap_or_default())
}

/// The folders that something is in, from the nearest on.
fn above(path: &RelPath) -> impl Iterator<Item = RelPath> {
    std::iter::successors(path.parent(), RelPath::parent)
}

/// The folder, with a slash, of the bundle or framework that a property list in the product belongs to.
fn inner_bundle(path: &str) -> Option<String> {
    bundle_of(path).map(|node| format!("{node}/"))
}

/// Folders, each with a slash, that can't lie where programs are, for their names have a dot and they are no bundles; but not
/// those that a link leads out of, for it would lead elsewhere.
fn dotted_folders(tree: &[Node], inner: &[String]) -> Vec<String> {
    let mut found: Vec<String> = Vec::new();
    for path in tree.iter().filter(|node| node.is_folder()).map(Node::path) {
        let folder = format!("{path}/");
        let is_known = |others: &[String]| others.iter().any(|other| folder.starts_with(other.as_str()));
        let is_own = OWN_PLACES.contains(&path.as_str().split('/').next().unwrap_or_default());
        if path.name().contains('.') && !is_own && !is_known(inner) && !is_known(&found) {
            found.push(folder);
        }
    }
    found.retain(|folder| {
        let mut links = tree.iter().filter_map(|node| match node {
            Node::Link { path, target } => path.as_str().starts_with(folder.as_str()).then_some((path, target)),
            _ => None,
        });
        links.all(|(path, target)| leads_to(path, target).is_some_and(|to| to.starts_with(folder.as_str())))
    });
    found
}

/// Where a link leads, from the top of the product; nothing for one that leads out of it.
fn leads_to(link: &RelPath, target: &str) -> Option<String> {
    let mut parts: Vec<&str> = link.as_str().split('/').collect();
    parts.pop();
    for part in target.split('/') {
        match part {
            "." => {}
            "" => return None,
            ".." => drop(parts.pop()?),
            name => parts.push(name),
        }
    }
    Some(parts.join("/"))
}

/// The bundle's folder for a product.
pub fn top(name: Option<&str>) -> String {
    format!("{}.app", stored_name(name.unwrap_or("Product")))
}

/// The program that the bundle is.
fn main_program<'j>(job: &Job<'j>) -> Option<&'j Program> {
    job.footprint.main_program().and_then(|key| job.footprint.program(key))
}

/// Whether the system can start the program's own file: nothing else is said of how it is started.
fn starts_itself(program: &Program) -> bool {
    program.is_plain() && !program.file.as_str().contains('/')
}

/// The name of the file that the system starts, in [`CODE`].
pub fn executable(job: &Job) -> Option<String> {
    let program = main_program(job)?;
    if finished::folder(&job.footprint.tree).is_some() {
        return Some(program.file.name().to_owned());
    }
    if starts_itself(program) {
        return Some(program.file.as_str().to_owned());
    }
    // A name that is still free.
    let top = top(job.footprint.product.name.as_deref());
    let name = RelPath::new(top.trim_end_matches(".app")).ok().map(|n| stored(&n))?;
    let name = name.as_str();
    let taken: BTreeSet<String> = job.footprint.tree.iter().map(|node| node.path().as_str().to_lowercase()).collect();
    let names = std::iter::once(name.to_owned()).chain((2..).map(|n| format!("{name} {n}")));
    names.into_iter().find(|n| !taken.contains(&n.to_lowercase()))
}

/// The launcher for a platform's processors: a program rather than a script, so that the system sees what it is for, and
/// a signature can be in it.
fn launcher(platform: Option<Platform>) -> Vec<u8> {
    const ARM64: &[u8] = include_bytes!("../../../heads/macos-arm64/launcher");
    const X64: &[u8] = include_bytes!("../../../heads/macos-x64/launcher");
    match platform {
        Some(Platform::MacosArm64) => ARM64.to_vec(),
        Some(Platform::MacosX64) => X64.to_vec(),
        _ => {
            let mut both = Vec::new();
            mach_o::join(&[X64.to_vec(), ARM64.to_vec()], &mut both).expect("two small programs of ours");
            both
        }
    }
}

/// What the launcher starts, in the form that its sources describe.
fn launch(program: &Program) -> Vec<u8> {
    let Program { key: _, file, arguments, environment, unset, working_folder, console: _ } = program;
    let stored_path = |path: &RelPath| stored(path).as_str().to_owned();
    let working = match working_folder {
        WorkingFolder::Unchanged => String::new(),
        WorkingFolder::Home => "~".into(),
        WorkingFolder::Install => ".".into(),
        WorkingFolder::Inside(path) => stored_path(path),
    };
    let mut texts = vec![stored_path(file), working, arguments.len().to_string()];
    texts.extend(arguments.iter().cloned());
    texts.extend(environment.iter().map(|(name, value)| format!("{name}={value}")));
    texts.extend(unset.iter().cloned());
    texts.iter().flat_map(|t| t.replace("{install}", "\u{1}").into_bytes().into_iter().chain([0])).collect()
}

impl Bundle {
    /// Gives everything its place.
    pub fn of(job: &Job) -> Self {
        let tree = &job.footprint.tree;
        if let Some(folder) = finished::folder(tree) {
            let top = RelPath::new(folder).map_or_else(|_| folder.to_owned(), |f| stored(&f).to_string());
            let (moved, beside) = (HashSet::new(), BTreeSet::new());
            let mut bundle = Self { top, pieces: Vec::new(), moved, beside, finished: true };
            for node in tree {
                match node {
                    Node::Folder { path, .. } if path.as_str() == bundle.top => {}
                    Node::Folder { path, mode } => bundle.pieces.push((bundle.place(path), Piece::Folder(*mode))),
                    Node::Link { path, target } => {
                        bundle.pieces.push((bundle.place(path), Piece::Link(target.clone())));
                    }
                    Node::File { .. } | Node::HardLink { .. } => {}
                }
            }
            return bundle;
        }
        let mut pinned: BTreeSet<RelPath> = code::of(job.files);
        pinned.extend(job.footprint.programs.iter().map(|p| p.file.clone()));
        // Where a link leads is told from where it stands.
        pinned.extend(tree.iter().filter(|n| matches!(n, Node::Link { .. })).map(|n| n.path().clone()));
        // Where programs are, a Mac takes a folder with a dot in its name for a bundle: such a one lies among the data, whole.
        let inner: Vec<String> = tree.iter().filter_map(|node| inner_bundle(node.path().as_str())).collect();
        let dotted = dotted_folders(tree, &inner);
        pinned.retain(|path| !dotted.iter().any(|folder| path.as_str().starts_with(folder.as_str())));
        let mut staying: HashSet<RelPath> = HashSet::new();
        for path in &pinned {
            staying.extend(above(path));
        }
        // A bundle in the product, with code in it, stays whole: its own seal says what is where.
        let has_code = |folder: &&String| pinned.iter().any(|path| path.as_str().starts_with(folder.as_str()));
        let inner: Vec<&String> = inner.iter().filter(has_code).collect();
        let whole = tree
            .iter()
            .map(Node::path)
            .filter(|path| inner.iter().any(|folder| path.as_str().starts_with(folder.as_str())));
        staying.extend(whole.flat_map(|path| std::iter::once(path.clone()).chain(above(path))));
        let is_own = |node: &&Node| node.is_folder() && OWN_PLACES.contains(&node.path().as_str());
        let beside = tree.iter().filter(is_own).map(|node| node.path().to_string()).collect();
        let moved: HashSet<RelPath> = tree
            .iter()
            .filter(|node| matches!(node, Node::Folder { .. } | Node::File { .. }))
            .map(Node::path)
            .filter(|p| !is_beside(&beside, p) && !pinned.contains(p) && !staying.contains(p))
            .filter(|p| p.parent().is_none_or(|f| staying.contains(&f)))
            .cloned()
            .collect();
        let top = top(job.footprint.product.name.as_deref());
        let mut bundle = Self { top, pieces: Vec::new(), moved, beside, finished: false };
        bundle.pieces(job);
        bundle
    }

    fn pieces(&mut self, job: &Job) {
        let mut pieces = vec![
            ("Contents".to_owned(), Piece::Folder(0o755)),
            (CODE.into(), Piece::Folder(0o755)),
            (DATA.into(), Piece::Folder(0o755)),
        ];
        // Folders come before what is in them: that is their order. Those that lead to something moved are there twice.
        let mut data_folders: HashSet<RelPath> = HashSet::new();
        for node in &job.footprint.tree {
            if let Node::Folder { path, .. } | Node::File { path, .. } = node
                && self.moved.contains(path)
            {
                let new: Vec<RelPath> = above(path).filter(|f| !data_folders.contains(f)).collect();
                for folder in new.into_iter().rev() {
                    pieces.push((format!("{DATA}/{folder}"), Piece::Folder(0o755)));
                    data_folders.insert(folder);
                }
            }
            match node {
                Node::Folder { path, mode } => {
                    pieces.push((self.place(path), Piece::Folder(*mode)));
                    // Programs look for it on either way.
                    if OWN_PLACES.contains(&path.as_str()) {
                        pieces.push((format!("{CODE}/{path}"), Piece::Link(format!("../{path}"))));
                    }
                }
                Node::Link { path, target } => pieces.push((self.place(path), Piece::Link(target.clone()))),
                Node::File { .. } | Node::HardLink { .. } => {}
            }
        }
        let mut moved: Vec<&RelPath> = self.moved.iter().collect();
        moved.sort();
        for path in moved {
            let up = "../".repeat(path.as_str().matches('/').count() + 1);
            pieces.push((format!("{CODE}/{path}"), Piece::Link(format!("{up}Resources/{path}"))));
        }
        if let (Some(program), Some(name)) = (main_program(job), executable(job))
            && !starts_itself(program)
        {
            let signed = job.sealed.and_then(|sealed| sealed.launcher.clone());
            let launcher = signed.unwrap_or_else(|| launcher(job.footprint.platform));
            pieces.push((format!("{CODE}/{name}"), Piece::File(0o755, launcher)));
            pieces.push((format!("{DATA}/{LAUNCH}"), Piece::File(0o644, launch(program))));
        }
        // Making the picture can't fail: its sizes are the format's own.
        let icon = job.icon.icns().unwrap_or_default();
        pieces.push((format!("{DATA}/{ICON}"), Piece::File(0o644, icon)));
        for (language, name) in &job.footprint.bundle.names {
            let folder = format!("{DATA}/{language}.lproj");
            pieces.push((folder.clone(), Piece::Folder(0o755)));
            pieces.push((format!("{folder}/InfoPlist.strings"), Piece::File(0o644, list::strings(name))));
        }
        pieces.push(("Contents/Info.plist".into(), Piece::File(0o644, list::write(job))));
        pieces.push(("Contents/PkgInfo".into(), Piece::File(0o644, b"APPL????".to_vec())));
        if let Some(sealed) = job.sealed {
            pieces.push(("Contents/_CodeSignature".into(), Piece::Folder(0o755)));
            pieces.push((SEAL.into(), Piece::File(0o644, sealed.seal.clone())));
        }
        self.pieces = pieces;
    }

    /// Where something of the payload stands in the bundle.
    pub fn place(&self, path: &RelPath) -> String {
        let path = &stored(path);
        if self.finished {
            let inside = path.as_str().strip_prefix(&self.top).and_then(|p| p.strip_prefix('/'));
            return inside.unwrap_or(path.as_str()).to_owned();
        }
        if is_beside(&self.beside, path) {
            return format!("Contents/{path}");
        }
        if std::iter::once(path.clone()).chain(above(path)).any(|p| self.moved.contains(&p)) {
            return format!("{DATA}/{path}");
        }
        format!("{CODE}/{path}")
    }

    /// The path in the payload of what stands at a place in the bundle.
    pub fn path_of(&self, place: &str) -> String {
        if self.finished {
            return format!("{}/{place}", self.top);
        }
        let inside = |folder: &str| place.strip_prefix(folder).and_then(|rest| rest.strip_prefix('/'));
        inside(CODE).or_else(|| inside(DATA)).or_else(|| inside("Contents")).unwrap_or(place).to_owned()
    }
}

/// What speaks against a bundle, whatever it lies in.
pub fn check(job: &Job) -> Vec<Problem> {
    let mut problems = Vec::new();
    let product = &job.footprint.product;
    if main_program(job).is_none() {
        let problem = Problem::error(Code::NeedsProgram, "an application bundle needs a program to start");
        problems.push(problem.instead("[[program]]\nkey = \"app\"\nfile = \"the program's file in the payload\""));
    }
    let id = product.id.as_deref().unwrap_or_default();
    let is_fine = |c: char| c.is_ascii_alphanumeric() || c == '.' || c == '-';
    if id.is_empty() || !id.chars().all(is_fine) {
        let problem = Problem::error(Code::InvalidValue, format!("{id:?} can't be a bundle identifier"));
        problems.push(
            problem
                .about_setting("product.id")
                .why("it has letters, digits, dots and hyphens")
                .instead("id = \"works.example.product\""),
        );
    }
    for key in job.footprint.bundle.keys.keys() {
        if let Some(from) = list::written_from(key) {
            let problem = Problem::error(Code::Reserved, format!("the key {key} can't be given here"));
            let problem = problem.about_setting(format!("bundle.keys.{key}"));
            let problem = problem.why(format!("it is written from {from}"));
            problems.push(problem.instead(format!("{from}, and not bundle.keys.{key}")));
        }
    }
    if finished::folder(&job.footprint.tree).is_some() {
        problems.extend(finished::check(job));
        problems.extend(code::check(job));
        return problems;
    }
    let bundle = Bundle::of(job);
    let executable = format!("{CODE}/{}", executable(job).unwrap_or_default());
    let ours = [format!("{DATA}/{ICON}"), format!("{DATA}/{LAUNCH}"), executable];
    let own = main_program(job).filter(|program| starts_itself(program)).map(|program| &program.file);
    for node in &job.footprint.tree {
        let path = node.path();
        let place = bundle.place(path);
        if own != Some(path) && ours.iter().any(|o| o.len() == place.len() && o.to_lowercase() == place.to_lowercase())
        {
            let problem = Problem::error(Code::Reserved, format!("the payload has a file {path}")).about(node);
            problems.push(problem.why("the bundle has its own file there").instead("another name"));
        }
    }
    for language in job.footprint.bundle.names.keys() {
        let folder = format!("{language}.lproj");
        if job.footprint.tree.iter().any(|node| node.path().as_str().eq_ignore_ascii_case(&folder)) {
            let problem = Problem::error(
                Code::Reserved,
                format!("the payload has a folder {folder}, and [bundle] names makes one"),
            );
            problems.push(problem.instead(format!("the name in {folder}/InfoPlist.strings, and not in `names`")));
        }
    }
    problems.extend(taken_for_bundles(job, &bundle));
    problems.extend(code::check(job));
    problems
}

/// Folders that a Mac takes for bundles, for they have a dot in their names and lie where programs are.
fn taken_for_bundles(job: &Job, bundle: &Bundle) -> Vec<Problem> {
    let tree = &job.footprint.tree;
    let inner: BTreeSet<String> = tree.iter().filter_map(|node| inner_bundle(node.path().as_str())).collect();
    let mut problems = Vec::new();
    let paths: HashSet<&str> = tree.iter().map(|node| node.path().as_str()).collect();
    let lies_beside = |node: &&Node| {
        let path = node.path();
        let framework = path.parent().filter(|folder| inner.contains(&format!("{folder}/")));
        let has_versions = framework.is_some_and(|folder| paths.contains(format!("{folder}/Versions").as_str()));
        has_versions && path.name() != "Versions" && !matches!(node, Node::Link { .. })
    };
    let beside: Vec<&Node> = tree.iter().filter(lies_beside).collect();
    if let Some(first) = beside.first() {
        let more = match beside.len() {
            1 => String::new(),
            n => format!(", and {} more like it", n - 1),
        };
        let what = format!("{} lies beside the framework's versions{more}", first.path());
        let why = "only links belong there, and no seal covers it: a strict check of the signature fails";
        let problem = Problem::warning(Code::NotSignable, what).about(*first).why(why);
        problems.push(problem.instead("unpack frameworks with their links, or drop what lies there"));
    }
    for node in tree.iter().filter(|node| node.is_folder() && node.path().name().contains('.')) {
        let path = node.path();
        let is_inside = inner.iter().any(|folder| format!("{path}/").starts_with(folder.as_str()));
        if is_inside || bundle.place(path).starts_with(DATA) {
            continue;
        }
        let what = format!("a Mac takes the folder {path} for a bundle, and it is none");
        let problem = Problem::warning(Code::NotSignable, what).about(node);
        let why = "its name has a dot, and it lies where programs are: a strict check of the signature fails";
        problems.push(problem.why(why).instead("a name without a dot"));
    }
    problems
}
