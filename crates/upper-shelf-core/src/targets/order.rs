//! The order of versions as a text: Windows Installer can compare texts, and no versions. A setup program leaves its text
//! where the product's settings are; an MSI compares its own with it.

use crate::footprint::{Identity, RegistryEntry, RegistryRoot, RegistryValue, RegistryView};

/// The name of the value that holds the text.
pub const NAME: &str = "Order";
/// No version that people write is longer; the rest of a longer one does not count.
const LONGEST: usize = 100;

/// What a setup program leaves; it is its own, and nothing of the product's.
pub fn entry(product: &Identity) -> Option<RegistryEntry> {
    Some(RegistryEntry {
        root: RegistryRoot::Installed,
        view: RegistryView::Own,
        key: format!("Software\\{}", product.id.as_ref()?),
        name: Some(NAME.into()),
        value: RegistryValue::Text(text(product.version.as_ref()?)),
    })
}

/// A text of digits and the letters `a` to `f`. Texts stand in the order in which
/// [`setup_rules::version::order`] has their versions, in every language of the system.
pub fn text(version: &str) -> String {
    let version = version.split('+').next().unwrap_or_default();
    let version = version.trim_start_matches(|c: char| !c.is_ascii_digit());
    let end = version.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(version.len());
    let (numbers, rest) = version.split_at(end);
    // A number stands behind the count of its digits.
    let number = |digits: &str| {
        let digits = digits.trim_start_matches('0');
        format!("{:02}{digits}", digits.len().min(99))
    };
    let mut numbers: Vec<String> = numbers.split('.').map(number).collect();
    // `2.0` and `2` are the same.
    while numbers.last().is_some_and(|n| n == "00") {
        numbers.pop();
    }
    // A zero between others has a digit; the end of all numbers is less than any of them.
    let mut out: String = numbers.iter().map(|n| if n == "00" { "010".into() } else { n.clone() }).collect();
    out.push_str("00");
    let name = rest.strip_prefix('-').unwrap_or(rest);
    if name.is_empty() {
        out.push('f');
    } else {
        out.push('a');
        for part in name.split('.') {
            if part.bytes().all(|b| b.is_ascii_digit()) {
                out.push('1');
                out.push_str(&number(part));
            } else {
                out.push('2');
                out.extend(part.bytes().map(|b| format!("{b:02x}")));
                out.push_str("00");
            }
        }
        out.push('0');
    }
    out.truncate(LONGEST);
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::cmp::Ordering;

    fn order(a: &str, b: &str) -> Ordering {
        let units = |t: &str| t.encode_utf16().collect::<Vec<u16>>();
        setup_rules::version::order(&units(a), &units(b))
    }

    fn version() -> impl Strategy<Value = String> {
        let name =
            prop_oneof![Just(String::new()), "-(alpha|beta|rc|[0-9]{1,3}|[a-z]{1,2})(\\.(0|1|10|9|[a-z]-?[a-z])){0,2}"];
        ("v?(0|1|2|9|10|0?11|999)(\\.(0|00|1|9|10|11|2026)){0,3}", name, "(\\+b7)?")
            .prop_map(|(n, p, b)| format!("{n}{p}{b}"))
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(2000))]

        #[test]
        fn texts_stand_as_their_versions_do(a in version(), b in version()) {
            prop_assert_eq!(text(&a).cmp(&text(&b)), order(&a, &b), "{} {} {} {}", a, text(&a), b, text(&b));
        }
    }

    #[test]
    fn a_text_is_short_and_of_plain_letters() {
        let long = text(&format!("1.2.3-{}", "x".repeat(300)));
        assert!(long.len() == LONGEST && long.bytes().all(|b| b.is_ascii_digit() || b.is_ascii_lowercase()));
        assert_eq!(text("2.4.0"), "01201400f");
        assert_eq!(text(""), "00f");
    }
}
