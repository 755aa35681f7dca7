//! What the head decides, seen on any machine.

use proptest::prelude::*;
use setup_rules::trust::{Origin, Trust};
use setup_rules::{language, path, trust, version};
use std::cmp::Ordering;

fn units(text: &str) -> Vec<u16> {
    text.encode_utf16().collect()
}

fn order(a: &str, b: &str) -> Ordering {
    version::order(&units(a), &units(b))
}

#[test]
fn versions_have_the_order_of_semantic_versioning() {
    // The first eight are the specification's own example.
    let rising = [
        "1.0.0-alpha",
        "1.0.0-alpha.1",
        "1.0.0-alpha.beta",
        "1.0.0-beta",
        "1.0.0-beta.2",
        "1.0.0-beta.11",
        "1.0.0-rc.1",
        "1.0.0",
        "1.0.1-rc.1",
        "1.0.1",
        "1.2",
        "1.10",
        "2.0.0-0",
        "2.0.0b1",
        "2.0.0",
        "2.0.0.1",
        "2024.1",
        "99999999999999999999999.0",
    ];
    for (n, a) in rising.iter().enumerate() {
        for (m, b) in rising.iter().enumerate() {
            assert_eq!(order(a, b), n.cmp(&m), "{a} and {b}");
        }
    }
    for (a, b) in [("1", "1.0.0"), ("v1.2", "1.2"), ("1.0.0+5", "1.0.0+6"), ("01.2", "1.2"), ("1.0-rc+x", "1.0-rc")] {
        assert_eq!(order(a, b), Ordering::Equal, "{a} and {b}");
    }
    assert!(version::is_newer(&units("10.0.22000"), &units("10.0.17763")));
}

proptest! {
    #[test]
    fn the_order_is_one(a in "[v0-9a-c.+-]{0,12}", b in "[v0-9a-c.+-]{0,12}", c in "[v0-9a-c.+-]{0,12}") {
        prop_assert_eq!(order(&a, &b), order(&b, &a).reverse());
        if order(&a, &b) != Ordering::Greater && order(&b, &c) != Ordering::Greater {
            prop_assert_ne!(order(&a, &c), Ordering::Greater);
        }
    }
}

#[test]
fn a_language_fits_in_every_country() {
    assert_eq!(language::fit(1031, 1031), 2);
    assert_eq!(language::fit(11274, 3082), 1, "Spanish of Argentina");
    assert_eq!(language::fit(1036, 3082), 0);
}

#[test]
fn paths_stay_in_the_folder() {
    for good in ["a", r"a\b.txt", "brace{install}.txt", r"a b\ü\蜂"] {
        assert!(path::stays_inside(&units(good)), "{good}");
    }
    for bad in
        ["", r"..\a", r"a\..\b", r"a\.\b", r"C:\a", r"\a", r"a\", "a/b", "a:b", "a.", "nul", r"a\COM¹.x", "a\u{1}b"]
    {
        assert!(!path::stays_inside(&units(bad)), "{bad}");
    }
    for (written, meant) in
        [("\u{1}\\a", Some("a")), ("\u{1}", Some("")), ("a", Some("a")), ("\u{1}\\..\\a", None), ("a\u{1}", None)]
    {
        assert_eq!(path::inside(&units(written)).map(String::from_utf16_lossy).as_deref(), meant, "{written:?}");
    }
    let below = |path: &str| trust::is_below(&units(path), &units(r"D:\Tools\Hives"));
    assert!(below(r"d:\tools\hives\a\b.exe"));
    for bad in
        [r"D:\Tools\Hives", r"D:\Tools\Hives2\a", r"D:\Tools\Hives\..\a", r"C:\Windows\x.dll", r"D:\Tools\Hives\"]
    {
        assert!(!below(bad), "{bad}");
    }
    assert!(!trust::is_below(&units(r"\a"), &[]));
}

#[test]
fn an_elevated_run_trusts_only_what_only_administrators_can_write() {
    let of = |elevated, machine, sealed, in_programs| trust::of(Origin { elevated, machine, sealed, in_programs });
    for machine in [true, false] {
        for sealed in [None, Some(true), Some(false)] {
            assert_eq!(of(false, machine, sealed, false), Trust::Whole, "nothing is won by it");
            // A user's own part of the registry, and folders of their own.
            assert_eq!(of(true, false, sealed, true), Trust::Own);
        }
    }
    for in_programs in [true, false] {
        assert_eq!(of(true, true, Some(true), in_programs), Trust::Whole);
        assert_eq!(of(true, true, Some(false), in_programs), Trust::Own, "somebody has changed it");
    }
    assert_eq!(of(true, true, None, true), Trust::Whole, "written by an older setup, where others can't write");
    assert_eq!(of(true, true, None, false), Trust::Own);
}
