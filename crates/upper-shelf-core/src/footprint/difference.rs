//! The difference of two footprints.

use super::{Footprint, IconImage, Identity, Item, List, Node, Rule, Trace};
use crate::platform::Platform;
use serde::Serialize;
use std::cmp::Ordering;

/// One trace that is not the same in both.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case", tag = "change")]
pub enum Change {
    /// Only the newer one has it.
    Added {
        /// What.
        new: Trace,
    },
    /// Only the older one has it.
    Removed {
        /// What.
        old: Trace,
    },
    /// Both have it, differently.
    Changed {
        /// As it was.
        old: Trace,
        /// As it is.
        new: Trace,
    },
}

/// A field of the identity that is not the same in both.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct FieldChange {
    /// Its name.
    pub field: &'static str,
    /// As it was; empty if it was not said.
    pub old: String,
    /// As it is; empty if it is not said.
    pub new: String,
}

/// What leads from one footprint to another.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Default, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Difference {
    /// Fields of the identity.
    pub identity: Vec<FieldChange>,
    /// Items, in stable order.
    pub changes: Vec<Change>,
    /// Items that are the same in both.
    pub same: usize,
}

impl Difference {
    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.identity.is_empty() && self.changes.is_empty()
    }

    /// Adds what is different between two lists in the same order.
    fn compare<T: Item + Clone + Into<Trace>>(&mut self, old: &[T], new: &[T], is_same: impl Fn(&T, &T) -> bool) {
        let (mut olds, mut news) = (old.iter().peekable(), new.iter().peekable());
        loop {
            let order = match (olds.peek(), news.peek()) {
                (None, None) => break,
                (Some(_), None) => Ordering::Less,
                (None, Some(_)) => Ordering::Greater,
                (Some(old), Some(new)) => old.name().cmp(&new.name()),
            };
            let old = if order.is_le() { olds.next() } else { None };
            let new = if order.is_ge() { news.next() } else { None };
            let trace = |item: &T| item.clone().into();
            self.changes.push(match (old, new) {
                (Some(old), Some(new)) if is_same(old, new) => {
                    self.same += 1;
                    continue;
                }
                (Some(old), Some(new)) => Change::Changed { old: trace(old), new: trace(new) },
                (Some(old), None) => Change::Removed { old: trace(old) },
                (None, Some(new)) => Change::Added { new: trace(new) },
                (None, None) => break,
            });
        }
    }
}

impl Footprint {
    /// What has to change for `self` to become `newer`. Where one of two files has no hash, size and mode decide.
    pub fn difference(&self, newer: &Self) -> Difference {
        let Self {
            product,
            platform,
            tree,
            programs,
            shortcuts,
            file_types,
            link_schemes,
            environment,
            registry,
            services,
            fonts,
            commands,
            shell_files,
            choices,
            permissions,
            icons,
            install,
            bundle,
            foreign,
        } = self;
        let mut difference = Difference { identity: identity(product, &newer.product), ..Difference::default() };
        let name = |platform: &Option<Platform>| platform.map(|p| p.to_string()).unwrap_or_default();
        if *platform != newer.platform {
            let (old, new) = (name(platform), name(&newer.platform));
            difference.identity.push(FieldChange { field: "platform", old, new });
        }
        difference.compare(tree, &newer.tree, same_node);
        difference.compare(programs, &newer.programs, PartialEq::eq);
        difference.compare(shortcuts, &newer.shortcuts, PartialEq::eq);
        difference.compare(file_types, &newer.file_types, PartialEq::eq);
        difference.compare(link_schemes, &newer.link_schemes, PartialEq::eq);
        difference.compare(environment, &newer.environment, PartialEq::eq);
        difference.compare(registry, &newer.registry, PartialEq::eq);
        difference.compare(services, &newer.services, PartialEq::eq);
        difference.compare(fonts, &newer.fonts, PartialEq::eq);
        difference.compare(commands, &newer.commands, PartialEq::eq);
        difference.compare(shell_files, &newer.shell_files, PartialEq::eq);
        difference.compare(choices, &newer.choices, PartialEq::eq);
        difference.compare(permissions, &newer.permissions, PartialEq::eq);
        let rules = |own: Vec<Rule>, more: Vec<Rule>| -> List<Rule> { own.into_iter().chain(more).collect() };
        let old = rules(install.rules(), bundle.rules());
        difference.compare(&old, &rules(newer.install.rules(), newer.bundle.rules()), PartialEq::eq);
        difference.compare(foreign, &newer.foreign, PartialEq::eq);
        difference.compare(icons, &newer.icons, same_icon);
        difference
    }
}

fn same_content<T: PartialEq>(old: &Option<T>, new: &Option<T>) -> bool {
    old.is_none() || new.is_none() || old == new
}

fn same_node(old: &Node, new: &Node) -> bool {
    match (old, new) {
        (
            Node::File { path: p, mode: m, size: s, content: c },
            Node::File { path: p2, mode: m2, size: s2, content: c2 },
        ) => p == p2 && m == m2 && s == s2 && same_content(c, c2),
        _ => old == new,
    }
}

fn same_icon(old: &IconImage, new: &IconImage) -> bool {
    old.form == new.form && same_content(&old.content, &new.content)
}

fn identity(old: &Identity, new: &Identity) -> Vec<FieldChange> {
    let fields = |i: &Identity| {
        let Identity { id, name, version, publisher, summary, description, homepage, support, license, categories } =
            i.clone();
        [
            ("id", id),
            ("name", name),
            ("version", version),
            ("publisher", publisher),
            ("summary", summary.map(|text| text.to_string())),
            ("description", description),
            ("homepage", homepage),
            ("support", support),
            ("license", license),
            ("categories", Some(categories.join(", "))),
        ]
    };
    let pairs = fields(old).into_iter().zip(fields(new)).filter(|(a, b)| a.1 != b.1);
    let change = |((field, old), (_, new)): ((&'static str, Option<String>), (_, Option<String>))| FieldChange {
        field,
        old: old.unwrap_or_default(),
        new: new.unwrap_or_default(),
    };
    pairs.map(change).collect()
}
