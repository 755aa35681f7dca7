//! The order of versions: that of [Semantic Versioning 2.0.0](https://semver.org/) (section 11), for any count of
//! numbers, so that `2.0.0` is newer than `2.0.0-beta.1`. What follows a `+` does not count.

use core::cmp::Ordering;

fn is(unit: u16, c: u8) -> bool {
    unit == u16::from(c)
}

fn is_digit(unit: &u16) -> bool {
    (u16::from(b'0')..=u16::from(b'9')).contains(unit)
}

/// Digits by their number, however many there are.
fn numbers(a: &[u16], b: &[u16]) -> Ordering {
    let plain = |mut n: &[u16]| -> usize {
        let all = n.len();
        while n.len() > 1 && is(n[0], b'0') {
            n = &n[1..];
        }
        all - n.len()
    };
    let (a, b) = (&a[plain(a)..], &b[plain(b)..]);
    // No digits at all are nothing.
    let zero = [u16::from(b'0')];
    let (a, b) = (if a.is_empty() { &zero[..] } else { a }, if b.is_empty() { &zero[..] } else { b });
    a.len().cmp(&b.len()).then_with(|| a.cmp(b))
}

/// The numbers with their dots, and what follows them before a `+`: the name of a preliminary version.
fn parts(version: &[u16]) -> (&[u16], &[u16]) {
    let version = version.split(|u| is(*u, b'+')).next().unwrap_or(version);
    // A letter in front, as in `v2.1`, is no number.
    let start = version.iter().position(is_digit).unwrap_or(0);
    let version = &version[start..];
    let end = version.iter().position(|u| !is_digit(u) && !is(*u, b'.')).unwrap_or(version.len());
    let (core, rest) = version.split_at(end);
    (core, if rest.first().is_some_and(|u| is(*u, b'-')) { &rest[1..] } else { rest })
}

/// How one version stands to another one.
pub fn order(a: &[u16], b: &[u16]) -> Ordering {
    let ((a, a_pre), (b, b_pre)) = (parts(a), parts(b));
    let (mut of_a, mut of_b) = (a.split(|u| is(*u, b'.')), b.split(|u| is(*u, b'.')));
    loop {
        let (x, y) = (of_a.next(), of_b.next());
        if x.is_none() && y.is_none() {
            break;
        }
        match numbers(x.unwrap_or(&[]), y.unwrap_or(&[])) {
            Ordering::Equal => {}
            other => return other,
        }
    }
    match (a_pre.is_empty(), b_pre.is_empty()) {
        (true, true) => Ordering::Equal,
        (true, false) => Ordering::Greater,
        (false, true) => Ordering::Less,
        (false, false) => preliminary(a_pre, b_pre),
    }
}

/// The names of two preliminary versions of the same numbers.
fn preliminary(a: &[u16], b: &[u16]) -> Ordering {
    let (mut of_a, mut of_b) = (a.split(|u| is(*u, b'.')), b.split(|u| is(*u, b'.')));
    loop {
        let (x, y) = match (of_a.next(), of_b.next()) {
            (None, None) => return Ordering::Equal,
            (None, Some(_)) => return Ordering::Less,
            (Some(_), None) => return Ordering::Greater,
            (Some(x), Some(y)) => (x, y),
        };
        let (x_number, y_number) = (x.iter().all(is_digit), y.iter().all(is_digit));
        let order = match (x_number, y_number) {
            (true, true) => numbers(x, y),
            (true, false) => Ordering::Less,
            (false, true) => Ordering::Greater,
            (false, false) => x.cmp(y),
        };
        if order != Ordering::Equal {
            return order;
        }
    }
}

/// Whether the first is newer than the second.
pub fn is_newer(a: &[u16], b: &[u16]) -> bool {
    order(a, b) == Ordering::Greater
}
