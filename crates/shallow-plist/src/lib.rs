//! Property lists of others: one that goes too deep would take the whole stack while it is read, and nobody has written it.
//!
//! ```
//! let list = b"<plist version=\"1.0\"><array><string>hive</string></array></plist>";
//! assert!(shallow_plist::value_of(list).is_some());
//! ```

use plist::Value;
use std::collections::BTreeSet;

/// Lists inside lists.
const DEEPEST: usize = 64;

/// The value in a property list; nothing for what is none, or goes too deep.
pub fn value_of(bytes: &[u8]) -> Option<Value> {
    let fits = if bytes.starts_with(b"bplist") { binary_fits(bytes)? } else { text_fits(bytes) };
    fits.then(|| Value::from_reader(std::io::Cursor::new(bytes)).ok()).flatten()
}

fn text_fits(bytes: &[u8]) -> bool {
    use quick_xml::events::Event;
    let mut reader = quick_xml::Reader::from_reader(bytes);
    let mut depth = 0usize;
    loop {
        match reader.read_event() {
            Ok(Event::Start(_)) => depth += 1,
            Ok(Event::End(_)) => depth = depth.saturating_sub(1),
            // What is no XML is no list either, which reading it says.
            Ok(Event::Eof) | Err(_) => return true,
            Ok(_) => {}
        }
        if depth > DEEPEST {
            return false;
        }
    }
}

/// Level after level of a binary list, from its top (the format is described in Apple's `CFBinaryPList.c`).
fn binary_fits(bytes: &[u8]) -> Option<bool> {
    let trailer = bytes.get(bytes.len().checked_sub(32)?..)?;
    let number = |at: &[u8]| at.iter().fold(0u64, |n, b| n.wrapping_shl(8) | u64::from(*b));
    let (offset_size, reference_size) = (usize::from(trailer[6]), usize::from(trailer[7]));
    let (count, top, table) = (number(&trailer[8..16]), number(&trailer[16..24]), number(&trailer[24..32]));
    if offset_size > 8 || reference_size > 8 || count > bytes.len() as u64 {
        return None;
    }
    let place = |object: u64| {
        let at = usize::try_from(table.checked_add(object.checked_mul(offset_size as u64)?)?).ok()?;
        usize::try_from(number(bytes.get(at..at.checked_add(offset_size)?)?)).ok()
    };
    // The objects that a list or a dictionary names; nothing for what is neither.
    let inside = |object: u64| -> Option<Vec<u64>> {
        let at = place(object)?;
        let marker = *bytes.get(at)?;
        let kinds = match marker >> 4 {
            0xA | 0xC => 1,
            0xD => 2,
            _ => return Some(Vec::new()),
        };
        let (length, from) = match marker & 0xF {
            0xF => {
                let size = 1usize << (bytes.get(at + 1)? & 0xF).min(3);
                (number(bytes.get(at + 2..at + 2 + size)?), at + 2 + size)
            }
            short => (u64::from(short), at + 1),
        };
        let length = usize::try_from(length).ok()?.checked_mul(kinds)?.checked_mul(reference_size)?;
        let references = bytes.get(from..from.checked_add(length)?)?;
        Some(references.chunks_exact(reference_size.max(1)).map(number).collect())
    };
    let mut level = BTreeSet::from([top]);
    for _ in 0..DEEPEST {
        let mut next = BTreeSet::new();
        for object in level {
            next.extend(inside(object)?);
        }
        if next.is_empty() {
            return Some(true);
        }
        level = next;
    }
    Some(false)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn nested(levels: usize) -> Value {
        (0..levels).fold(Value::String("hive".into()), |inner, _| Value::Array(vec![inner]))
    }

    #[test]
    fn both_forms_are_read_up_to_a_depth_and_refused_beyond() {
        for (levels, fits) in [(1, true), (40, true), (200, false)] {
            let (mut text, mut binary) = (Vec::new(), Vec::new());
            nested(levels).to_writer_xml(&mut text).expect("written");
            nested(levels).to_writer_binary(&mut binary).expect("written");
            assert_eq!(value_of(&text).is_some(), fits, "{levels} levels, text");
            assert_eq!(value_of(&binary).is_some(), fits, "{levels} levels, binary");
        }
        let deep = "<array>".repeat(500_000);
        assert!(value_of(format!("<plist version=\"1.0\">{deep}").as_bytes()).is_none());
        assert!(value_of(b"").is_none() && value_of(b"bplist00").is_none());
    }

    proptest::proptest! {
        #[test]
        fn no_bytes_make_it_panic(bytes in proptest::collection::vec(proptest::prelude::any::<u8>(), 0..200)) {
            let _ = value_of(&[b"bplist00", bytes.as_slice()].concat());
            let _ = value_of(&bytes);
        }
    }
}
