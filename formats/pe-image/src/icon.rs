//! A program's icon: from an ICO file to the group and the pictures that Windows wants.

use crate::bytes::{part, u16_at, u32_at};
use crate::resources::{Key, Resources, kinds};
use crate::{Error, Result};
use std::collections::BTreeSet;

/// American English: what programs without a language of their own use.
const LANGUAGE: u16 = 1033;

/// Makes an ICO file the program's icon. Windows shows the first group: that one is replaced, with its pictures; all
/// others stay.
///
/// # Errors
/// [`Error::Format`] when it is no ICO file; [`Error::Limit`] when there are too many pictures.
pub fn set_icon(resources: &mut Resources, ico: &[u8]) -> Result<()> {
    if u16_at(ico, 0)? != 0 || u16_at(ico, 2)? != 1 {
        return Err(Error::at(0, "not an icon"));
    }
    let first = resources
        .of_kind(kinds::ICON_GROUP)
        .next()
        .map(|(name, language, group)| (name.clone(), language, members(group)));
    let (name, language, old) = first.unwrap_or((Key::Id(1), LANGUAGE, Vec::new()));
    let others: BTreeSet<u16> = resources
        .of_kind(kinds::ICON_GROUP)
        .filter(|(n, ..)| **n != name)
        .flat_map(|(_, _, group)| members(group))
        .collect();
    resources.remove(kinds::ICON, |key| matches!(key, Key::Id(id) if old.contains(id) && !others.contains(id)));
    let taken: BTreeSet<Key> = resources.of_kind(kinds::ICON).map(|(name, ..)| name.clone()).collect();
    let mut free = (1..=u16::MAX).filter(|id| !taken.contains(&Key::Id(*id)));
    let count = u16_at(ico, 4)?;
    let mut group = part(ico, 0, 6)?.to_vec();
    for n in 0..usize::from(count) {
        let entry = part(ico, 6 + n * 16, 16)?;
        let (len, at) = (u32_at(entry, 8)? as usize, u32_at(entry, 12)? as usize);
        let id = free.next().ok_or_else(|| Error::Limit("it already has 65535 images".into()))?;
        resources.put(kinds::ICON, Key::Id(id), language, part(ico, at, len)?.to_vec());
        // The same record, with the picture's number for its place.
        group.extend_from_slice(&entry[..12]);
        group.extend_from_slice(&id.to_le_bytes());
    }
    resources.remove(kinds::ICON_GROUP, |key| *key == name);
    resources.put(kinds::ICON_GROUP, name, language, group);
    Ok(())
}

/// The numbers of a group's pictures.
fn members(group: &[u8]) -> Vec<u16> {
    let records = group.get(6..).unwrap_or_default().as_chunks::<14>().0;
    records.iter().map(|r| u16::from_le_bytes([r[12], r[13]])).collect()
}
