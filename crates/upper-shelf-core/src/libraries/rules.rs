//! What the table of rules says of systems and toolkits.

use crate::payload::patterns;
use crate::platform::System;
use globset::GlobSet;
use std::sync::LazyLock;

const RULES: &str = include_str!("rules.txt");

/// A pattern of names, with what follows for whoever needs such a library.
pub struct Rule {
    library: GlobSet,
    /// The tree that it is about.
    pub tree: &'static str,
    /// What the rule says of it.
    pub rest: Vec<&'static str>,
}

impl Rule {
    fn new(words: &[&'static str]) -> Self {
        let [library, tree, rest @ ..] = words else { unreachable!("a rule of ours is whole") };
        Self { library: set(&[library]), tree, rest: rest.to_vec() }
    }

    /// Whether it is about a library.
    pub fn is_about(&self, library: &str) -> bool {
        self.library.is_match(library)
    }
}

/// The rules, read.
pub struct Rules {
    linux: GlobSet,
    windows: GlobSet,
    /// Libraries of debug builds.
    pub debug: GlobSet,
    trees: Vec<(&'static str, Vec<&'static str>)>,
    /// Trees without which programs don't run.
    pub must: Vec<&'static str>,
    /// Files that come along.
    pub with: Vec<Rule>,
    /// Files that don't.
    without: Vec<(&'static str, GlobSet)>,
    flat: Vec<(&'static str, GlobSet)>,
    lists: Vec<(&'static str, &'static str)>,
    /// Folders that are named in a file beside programs.
    pub conf: Vec<Rule>,
    /// Variables: the tree is the variable's name, and the rest the tree.
    pub set: Vec<Rule>,
}

fn set(all: &[&str]) -> GlobSet {
    let all: Vec<String> = all.iter().map(|one| (*one).to_owned()).collect();
    patterns(&all).expect("patterns of ours")
}

/// The rules.
pub fn rules() -> &'static Rules {
    static READ: LazyLock<Rules> = LazyLock::new(|| Rules::read(RULES));
    &READ
}

impl Rules {
    fn read(rules: &'static str) -> Self {
        let lines = || rules.lines().filter(|line| !line.is_empty() && !line.starts_with('#'));
        let of = |kind: &str| {
            let words = lines().map(|line| line.split_whitespace().collect::<Vec<_>>());
            words.filter(|words| words[0] == kind).map(|words| words[1..].to_vec()).collect::<Vec<_>>()
        };
        let all = |kind: &str| set(&of(kind).concat());
        let sets = |kind: &str| of(kind).iter().map(|words| (words[0], set(&words[1..]))).collect();
        let each = |kind: &str| of(kind).iter().map(|words| Rule::new(words)).collect();
        Self {
            linux: all("linux"),
            windows: all("windows"),
            debug: all("debug"),
            trees: of("tree").iter().map(|words| (words[0], words[1..].to_vec())).collect(),
            must: of("must").concat(),
            with: each("with"),
            without: sets("without"),
            flat: sets("flat"),
            lists: of("list").iter().flat_map(|words| words[1..].iter().map(|file| (words[0], *file))).collect(),
            conf: each("conf"),
            set: each("set"),
        }
    }

    /// Whether every system has a library.
    pub fn is_everywhere(&self, system: System, name: &str) -> bool {
        match system {
            System::Linux => self.linux.is_match(name),
            System::Windows => self.windows.is_match(name.to_lowercase()),
            System::Macos => false,
        }
    }

    /// Where a tree may be; it goes to the first of these places.
    pub fn places(&self, tree: &str) -> &[&'static str] {
        self.trees.iter().find(|(name, _)| *name == tree).map_or(&[], |(_, places)| places)
    }

    /// Whether a file of a tree stays behind.
    pub fn is_left(&self, tree: &str, path: &str) -> bool {
        self.without.iter().any(|(name, files)| *name == tree && files.is_match(path))
    }

    /// Whether a file of a tree lies with all other libraries.
    pub fn is_flat(&self, tree: &str, path: &str) -> bool {
        self.flat.iter().any(|(name, files)| *name == tree && files.is_match(path))
    }

    /// Whether a file of a tree is a list of libraries with their folders.
    pub fn is_list(&self, tree: &str, path: &str) -> bool {
        self.lists.contains(&(tree, path))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_rule_is_of_a_known_kind_and_about_a_known_tree() {
        let kinds = ["linux", "windows", "debug", "tree", "must", "with", "without", "flat", "list", "conf", "set"];
        for line in RULES.lines().filter(|line| !line.is_empty() && !line.starts_with('#')) {
            assert!(kinds.contains(&line.split(' ').next().unwrap_or_default()), "{line}");
        }
        let rules = rules();
        let named = rules.with.iter().chain(&rules.conf).map(|rule| rule.tree);
        let named = named.chain(rules.set.iter().map(|rule| rule.rest[0].split('/').next().unwrap_or_default()));
        let others = rules.without.iter().chain(&rules.flat).map(|(tree, _)| *tree);
        for tree in
            named.chain(others).chain(rules.must.iter().copied()).chain(rules.lists.iter().map(|(tree, _)| *tree))
        {
            assert!(!rules.places(tree).is_empty(), "{tree}");
        }
    }
}
