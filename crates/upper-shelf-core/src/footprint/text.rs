//! The stable text form: a tree that a user can read, and that two versions of can be laid side by side.

use super::{
    Choice, Command, EnvironmentAction, FileType, Font, Footprint, IconForm, IconImage, LinkScheme, Node, Program,
    RegistryEntry, RegistryRoot, RegistryValue, RegistryView, Service, ServiceStart, ShellFile, ShellFileKind,
    Shortcut, Text, Trace, Variable, WorkingFolder,
};
use std::collections::HashSet;
use std::fmt::{self, Write as _};

/// Bytes as people read them: decimal units, three digits.
pub fn bytes(n: u64) -> String {
    const UNITS: [&str; 6] = ["bytes", "kB", "MB", "GB", "TB", "PB"];
    let (mut value, mut unit) = (n as f64, 0);
    while value >= 999.5 && unit + 1 < UNITS.len() {
        value /= 1000.0;
        unit += 1;
    }
    let digits = if unit == 0 || value >= 99.95 { 0 } else { usize::from(value < 9.995) + 1 };
    format!("{value:.digits$} {}", UNITS[unit])
}

impl fmt::Display for Trace {
    /// One line, without the path of what has one.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Node(item) => item.fmt(f),
            Self::Program(item) => item.fmt(f),
            Self::Shortcut(item) => item.fmt(f),
            Self::FileType(item) => item.fmt(f),
            Self::LinkScheme(item) => item.fmt(f),
            Self::Variable(item) => item.fmt(f),
            Self::Registry(item) => item.fmt(f),
            Self::Service(item) => item.fmt(f),
            Self::Font(item) => item.fmt(f),
            Self::Command(item) => item.fmt(f),
            Self::ShellFile(item) => item.fmt(f),
            Self::Choice(item) => item.fmt(f),
            Self::Permission(item) => item.fmt(f),
            Self::Rule(item) => item.fmt(f),
            Self::Foreign(item) => item.fmt(f),
            Self::Icon(item) => item.fmt(f),
        }
    }
}

impl fmt::Display for Node {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Folder { mode, .. } => write!(f, "folder, mode {mode:o}"),
            Self::File { mode, size, content, .. } => {
                write!(f, "{}, mode {mode:o}", bytes(*size))?;
                match content {
                    Some(hash) => write!(f, ", {}", &hash.to_string()[..12]),
                    None => Ok(()),
                }
            }
            Self::HardLink { to, .. } => write!(f, "the same file as {to}"),
            Self::Link { target, .. } => write!(f, "→ {target}"),
        }
    }
}

impl fmt::Display for Program {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { key, file, arguments, environment, unset, working_folder, console } = self;
        write!(f, "{key}: {file}")?;
        arguments.iter().try_for_each(|a| write!(f, " {a:?}"))?;
        environment.iter().try_for_each(|(n, v)| write!(f, ", with {n}={v}"))?;
        unset.iter().try_for_each(|n| write!(f, ", without {n}"))?;
        match working_folder {
            WorkingFolder::Unchanged => {}
            WorkingFolder::Home => write!(f, ", in the home folder")?,
            WorkingFolder::Install => write!(f, ", in the product's own folder")?,
            WorkingFolder::Inside(folder) => write!(f, ", in {folder}")?,
        }
        f.write_str(if *console { ", in a terminal" } else { "" })
    }
}

impl fmt::Display for Shortcut {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { place, name, program, arguments, description } = self;
        write!(f, "{}: “{name}” starts {program}", place.name())?;
        arguments.iter().try_for_each(|a| write!(f, " {a:?}"))?;
        description.iter().try_for_each(|d| write!(f, " ({d})"))
    }
}

impl fmt::Display for FileType {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { mime, extensions, name, program } = self;
        write!(f, ".{}: “{name}” ({mime}) opens with {program}", extensions.join(", ."))
    }
}

impl fmt::Display for LinkScheme {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}: links open with {}", self.scheme, self.program)
    }
}

impl fmt::Display for Variable {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { name, action, value } = self;
        match action {
            EnvironmentAction::Set => write!(f, "{name} = {value}"),
            EnvironmentAction::Prepend => write!(f, "{name} = {value}, then what was there"),
            EnvironmentAction::Append => write!(f, "{name} = what was there, then {value}"),
        }
    }
}

impl fmt::Display for RegistryEntry {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { root, view, key, name, value } = self;
        f.write_str(match root {
            RegistryRoot::Installed => "",
            RegistryRoot::Machine => "machine: ",
            RegistryRoot::User => "user: ",
        })?;
        f.write_str(if *view == RegistryView::Bits32 { "32-bit: " } else { "" })?;
        write!(f, "{key} · {} = {value}", name.as_deref().unwrap_or("(its own value)"))
    }
}

impl fmt::Display for RegistryValue {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Text(text) => write!(f, "{text:?}"),
            Self::Expandable(text) => write!(f, "{text:?}, expandable"),
            Self::Number(n) => write!(f, "{n}"),
            Self::Bytes(hex) => write!(f, "bytes {hex}"),
            Self::List(list) => write!(f, "{list:?}"),
        }
    }
}

impl fmt::Display for Service {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { name, title, description, program, arguments, start, account } = self;
        write!(f, "{name}: “{title}” runs {program}")?;
        arguments.iter().try_for_each(|a| write!(f, " {a:?}"))?;
        f.write_str(match start {
            ServiceStart::Automatic => ", starts with the system",
            ServiceStart::OnDemand => ", on demand",
            ServiceStart::Disabled => ", disabled",
        })?;
        account.iter().try_for_each(|a| write!(f, ", as {a}"))?;
        description.iter().try_for_each(|d| write!(f, " ({d})"))
    }
}

impl fmt::Display for Font {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "“{}” from {}", self.title, self.file)
    }
}

impl fmt::Display for Command {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} starts {}", self.name, self.program)
    }
}

impl fmt::Display for ShellFile {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.kind {
            ShellFileKind::Manual => write!(f, "{}, from {}", self.name, self.file),
            shell => write!(f, "{} for {}, from {}", shell.name(), self.name, self.file),
        }
    }
}

impl fmt::Display for Choice {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { key, title, description, chosen, files } = self;
        let (taken, s) = (if *chosen { "selected" } else { "not selected" }, if files.len() == 1 { "" } else { "s" });
        write!(f, "{key}: “{title}”, {} file{s}, {taken} by default", files.len())?;
        description.iter().try_for_each(|d| write!(f, " ({d})"))
    }
}

impl fmt::Display for IconImage {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.form {
            IconForm::Png(size) => write!(f, "PNG {size} × {size}")?,
            IconForm::Svg => f.write_str("SVG")?,
        }
        self.content.iter().try_for_each(|hash| write!(f, ", {}", &hash.to_string()[..12]))
    }
}

impl Footprint {
    /// The whole footprint as text; equal footprints give equal texts, and different ones different texts.
    pub fn to_text(&self) -> String {
        let mut out = String::new();
        let p = &self.product;
        let or_unknown = |v: &Option<String>| v.clone().unwrap_or_else(|| "(not said)".into());
        let _ = match (&p.name, &p.version) {
            (None, None) => writeln!(out, "(no name or version given)"),
            (name, version) => writeln!(out, "{} {}", or_unknown(name), or_unknown(version)),
        };
        let platform = self.platform.map(|p| p.to_string());
        let summary = p.summary.as_ref().map(Text::to_string);
        let fields = [
            ("id", &p.id),
            ("publisher", &p.publisher),
            ("summary", &summary),
            ("description", &p.description),
            ("homepage", &p.homepage),
            ("support", &p.support),
            ("license", &p.license),
            ("categories", &Some(p.categories.join(", ")).filter(|c| !c.is_empty())),
            ("platform", &platform),
        ];
        for (name, value) in fields {
            if let Some(value) = value {
                let _ = writeln!(
                    out,
                    "  {name:<12} {}",
                    value.replace('\n', "\n               ").replace("               \n", "\n")
                );
            }
        }
        let _ = writeln!(out, "\nfiles ({}, {})", self.files().count(), bytes(self.size()));
        self.write_tree(&mut out);
        let mut last = "";
        for trace in self.traces().filter(|t| t.path().is_none()) {
            if trace.kind() != last {
                let _ = writeln!(out, "\n{}s", trace.kind());
                last = trace.kind();
            }
            let _ = writeln!(out, "  {trace}");
        }
        out
    }

    /// The tree of files with branches drawn; a folder's line ends with what is below it.
    fn write_tree(&self, out: &mut String) {
        // Sorted by name level by level, not by the whole path's letters: `a/b` stands before `a-b`.
        let mut nodes: Vec<(&str, Option<&Node>)> = self.tree.iter().map(|n| (n.path().as_str(), Some(n))).collect();
        // Many archives name no folders but in front of files.
        let listed: HashSet<&str> = nodes.iter().map(|(path, _)| *path).collect();
        let above = nodes.iter().flat_map(|(path, _)| path.match_indices('/').map(|(at, _)| &path[..at]));
        let above: HashSet<&str> = above.filter(|folder| !listed.contains(folder)).collect();
        nodes.extend(above.into_iter().map(|folder| (folder, None)));
        nodes.sort_by(|a, b| a.0.split('/').cmp(b.0.split('/')));
        let mut totals: std::collections::HashMap<&str, (u64, u64)> = std::collections::HashMap::new();
        for (path, node) in &nodes {
            if let Some(Node::File { size, .. }) = node {
                for (at, _) in path.match_indices('/') {
                    let total = totals.entry(&path[..at]).or_default();
                    *total = (total.0 + 1, total.1 + size);
                }
            }
        }
        // Whether a name is its folder's last decides how the branches are drawn.
        let mut last_in: std::collections::HashMap<&str, &str> = std::collections::HashMap::new();
        for (path, _) in &nodes {
            last_in.insert(path.rsplit_once('/').map_or("", |(parent, _)| parent), path);
        }
        for &(path, node) in &nodes {
            let mut line = String::from("  ");
            for (at, _) in path.match_indices('/') {
                let above = &path[..at];
                let parent = above.rsplit_once('/').map_or("", |(parent, _)| parent);
                line.push_str(if last_in.get(parent) == Some(&above) { "   " } else { "│  " });
            }
            let parent = path.rsplit_once('/').map_or("", |(parent, _)| parent);
            line.push_str(if last_in.get(parent) == Some(&path) { "└─ " } else { "├─ " });
            let name = path.rsplit('/').next().unwrap_or(path);
            let shown: String = name.chars().map(|c| if c.is_control() { '\u{fffd}' } else { c }).collect();
            line.push_str(&shown);
            let about = match node {
                None | Some(Node::Folder { .. }) => {
                    line.push('/');
                    let mode = match node {
                        Some(Node::Folder { mode: 0o755, .. }) => String::new(),
                        Some(Node::Folder { mode, .. }) => format!(", mode {mode:o}"),
                        _ => ", not listed itself".to_owned(),
                    };
                    match totals.get(path) {
                        Some((1, size)) => format!("1 file, {}{mode}", bytes(*size)),
                        Some((files, size)) => format!("{files} files, {}{mode}", bytes(*size)),
                        None => format!("empty{mode}"),
                    }
                }
                Some(other) => other.to_string(),
            };
            let width = line.chars().count();
            let gap = " ".repeat(46usize.saturating_sub(width).max(2));
            let _ = writeln!(out, "{line}{gap}{about}");
        }
    }
}
