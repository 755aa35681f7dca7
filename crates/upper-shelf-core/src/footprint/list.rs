//! Lists of items in their stable order.

use super::{Item, Trace};
use serde::{Deserialize, Serialize};
use std::ops::Deref;

/// Items of one kind, by name, each name once.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(transparent, bound(deserialize = "T: Item + Deserialize<'de>"))]
pub struct List<T>(#[serde(deserialize_with = "in_order")] Vec<T>);

fn in_order<'de, T: Item + Deserialize<'de>, D: serde::Deserializer<'de>>(d: D) -> Result<Vec<T>, D::Error> {
    Vec::deserialize(d).map(|items| List::from(items).0)
}

impl<T> Default for List<T> {
    fn default() -> Self {
        Self(Vec::new())
    }
}

impl<T: Item> From<Vec<T>> for List<T> {
    /// From items in any order; of two with the same name the later one stays.
    fn from(mut items: Vec<T>) -> Self {
        // Sorting needs room for a half of them.
        if !items.is_sorted_by(|a, b| a.name() <= b.name()) {
            items.sort_by(|a, b| a.name().cmp(&b.name()));
        }
        items.dedup_by(|later, earlier| {
            let same = later.name() == earlier.name();
            if same {
                std::mem::swap(later, earlier);
            }
            same
        });
        items.shrink_to_fit();
        Self(items)
    }
}

impl<T: Item> FromIterator<T> for List<T> {
    fn from_iter<I: IntoIterator<Item = T>>(items: I) -> Self {
        items.into_iter().collect::<Vec<T>>().into()
    }
}

impl<T: Item> Extend<T> for List<T> {
    fn extend<I: IntoIterator<Item = T>>(&mut self, items: I) {
        let mut all = std::mem::take(&mut self.0);
        all.extend(items);
        *self = all.into();
    }
}

impl<T> Deref for List<T> {
    type Target = [T];
    fn deref(&self) -> &[T] {
        &self.0
    }
}

impl<'l, T> IntoIterator for &'l List<T> {
    type Item = &'l T;
    type IntoIter = std::slice::Iter<'l, T>;
    fn into_iter(self) -> Self::IntoIter {
        self.0.iter()
    }
}

impl<T> IntoIterator for List<T> {
    type Item = T;
    type IntoIter = std::vec::IntoIter<T>;
    fn into_iter(self) -> Self::IntoIter {
        self.0.into_iter()
    }
}

impl<T> List<T> {
    /// The items, to be changed in what is not their name.
    pub(super) fn items_mut(&mut self) -> &mut [T] {
        &mut self.0
    }
}

impl<T: Item> List<T> {
    /// The items that `keep` keeps or changes.
    pub fn filter_map(&self, keep: impl FnMut(&T) -> Option<T>) -> Self {
        self.0.iter().filter_map(keep).collect()
    }

    /// The items as traces of any kind.
    pub fn traces(&self) -> impl Iterator<Item = Trace> + '_
    where
        T: Clone + Into<Trace>,
    {
        self.0.iter().cloned().map(Into::into)
    }
}
