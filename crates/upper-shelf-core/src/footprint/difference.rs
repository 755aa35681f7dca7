//! The difference of two footprints.

use super::{Footprint, Identity, Trace};
use serde::Serialize;
use std::cmp::Ordering;

/// One trace that is not the same in both.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
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

/// What leads from one footprint to another.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Default)]
#[serde(rename_all = "kebab-case")]
pub struct Difference {
    /// Fields of the identity: name, old value, new value.
    pub identity: Vec<(&'static str, String, String)>,
    /// Traces, in stable order.
    pub changes: Vec<Change>,
    /// Traces that are the same in both.
    pub same: usize,
}

impl Difference {
    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.identity.is_empty() && self.changes.is_empty()
    }
}

impl Footprint {
    /// What has to change for `self` to become `newer`. Where one of two files has no hash, size and mode decide.
    pub fn difference(&self, newer: &Self) -> Difference {
        let mut difference = Difference { identity: identity(&self.product, &newer.product), ..Difference::default() };
        let platform = |f: &Self| f.platform.map(|p| p.to_string()).unwrap_or_default();
        if platform(self) != platform(newer) {
            difference.identity.push(("platform", platform(self), platform(newer)));
        }
        // Both are in the same order.
        let (mut olds, mut news) = (self.traces().iter().peekable(), newer.traces().iter().peekable());
        loop {
            let order = match (olds.peek(), news.peek()) {
                (None, None) => break,
                (Some(_), None) => Ordering::Less,
                (None, Some(_)) => Ordering::Greater,
                (Some(old), Some(new)) => old.key().cmp(&new.key()),
            };
            let old = if order.is_le() { olds.next() } else { None };
            let new = if order.is_ge() { news.next() } else { None };
            match (old, new) {
                (Some(old), Some(new)) if same(old, new) => difference.same += 1,
                (Some(old), Some(new)) => {
                    difference.changes.push(Change::Changed { old: old.clone(), new: new.clone() });
                }
                (Some(old), None) => difference.changes.push(Change::Removed { old: old.clone() }),
                (None, Some(new)) => difference.changes.push(Change::Added { new: new.clone() }),
                (None, None) => break,
            }
        }
        difference
    }
}

fn same(old: &Trace, new: &Trace) -> bool {
    match (old, new) {
        (
            Trace::File { path: p, mode: m, size: s, content: c },
            Trace::File { path: p2, mode: m2, size: s2, content: c2 },
        ) => p == p2 && m == m2 && s == s2 && (c.is_none() || c2.is_none() || c == c2),
        (Trace::Icon { form: f, content: c }, Trace::Icon { form: f2, content: c2 }) => {
            f == f2 && (c.is_none() || c2.is_none() || c == c2)
        }
        _ => old == new,
    }
}

fn identity(old: &Identity, new: &Identity) -> Vec<(&'static str, String, String)> {
    let fields = |i: &Identity| {
        [
            ("id", i.id.clone()),
            ("name", i.name.clone()),
            ("version", i.version.clone()),
            ("publisher", i.publisher.clone()),
            ("summary", i.summary.clone()),
            ("description", i.description.clone()),
            ("homepage", i.homepage.clone()),
            ("support", i.support.clone()),
            ("license", i.license.clone()),
            ("categories", Some(i.categories.join(", "))),
        ]
    };
    let pairs = fields(old).into_iter().zip(fields(new));
    let changed = pairs.filter(|(a, b)| a.1 != b.1);
    changed.map(|((name, a), (_, b))| (name, a.unwrap_or_default(), b.unwrap_or_default())).collect()
}
