//! Names of streams. Windows Installer packs two characters of `0-9A-Za-z._` into one, so that names of tables and keys
//! fit into the container's 31 characters; a table's name has a mark in front.

const SINGLE: u32 = 0x4800;
const PAIR: u32 = 0x3800;
const TABLE: char = '\u{4840}';
/// Units of UTF-16 that a name in the container holds.
pub const MAX_UNITS: usize = 31;

fn six_bits(c: char) -> Option<u32> {
    match c {
        '0'..='9' => Some(c as u32 - '0' as u32),
        'A'..='Z' => Some(c as u32 - 'A' as u32 + 10),
        'a'..='z' => Some(c as u32 - 'a' as u32 + 36),
        '.' => Some(62),
        '_' => Some(63),
        _ => None,
    }
}

fn plain(bits: u32) -> char {
    const ALL: &[u8; 64] = b"0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz._";
    ALL[bits as usize & 63].into()
}

/// The packed form of a name.
pub fn pack(name: &str, is_table: bool) -> String {
    let mut out: String = is_table.then_some(TABLE).into_iter().collect();
    let mut chars = name.chars().peekable();
    while let Some(c) = chars.next() {
        let packed = six_bits(c).and_then(|a| match chars.peek().copied().and_then(six_bits) {
            Some(b) => {
                chars.next();
                char::from_u32(PAIR + a + (b << 6))
            }
            None => char::from_u32(SINGLE + a),
        });
        out.push(packed.unwrap_or(c));
    }
    out
}

/// The plain form of a packed name, and whether it is a table's.
pub fn unpack(packed: &str) -> (String, bool) {
    let rest = packed.strip_prefix(TABLE);
    let mut out = String::new();
    for c in rest.unwrap_or(packed).chars() {
        match c as u32 {
            n @ PAIR..SINGLE => out.extend([plain((n - PAIR) & 63), plain((n - PAIR) >> 6)]),
            n @ SINGLE..0x4840 => out.push(plain(n - SINGLE)),
            _ => out.push(c),
        }
    }
    (out, rest.is_some())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_packed_and_unpacked() {
        for name in ["File", "_StringPool", "Binary.icon_1.ico", "a", "", "ä-b c", "\u{5}SummaryInformation"] {
            for table in [false, true] {
                assert_eq!(unpack(&pack(name, table)), (name.to_owned(), table));
            }
        }
        assert_eq!(pack("File", true), "\u{4840}\u{430f}\u{422f}");
    }
}
