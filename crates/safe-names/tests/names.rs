//! Which names pass, and which don't.

use safe_names::{on_unix, on_windows, Fault, LONGEST};

fn windows(name: &str) -> Option<Fault> {
    on_windows(&name.encode_utf16().collect::<Vec<_>>())
}

#[test]
fn names_that_windows_would_take_for_something_else_are_refused() {
    for (name, fault) in [
        ("", Fault::Empty),
        (".", Fault::Dots),
        ("..", Fault::Dots),
        (r"..\x", Fault::Character('\\')),
        (r"C:\x", Fault::Character(':')),
        ("x:stream", Fault::Character(':')),
        ("a/b", Fault::Character('/')),
        ("a\tb", Fault::Character('\t')),
        ("why?", Fault::Character('?')),
        ("x.", Fault::End),
        ("x ", Fault::End),
        ("...", Fault::End),
        ("nul", Fault::Device("NUL")),
        ("Aux.txt", Fault::Device("AUX")),
        ("con .x", Fault::Device("CON")),
        ("com1.a.b", Fault::Device("COM1")),
        ("COM¹", Fault::Device("COM¹")),
        ("lpt³.log", Fault::Device("LPT³")),
        ("conin$", Fault::Device("CONIN$")),
    ] {
        assert_eq!(windows(name), Some(fault), "{name:?}");
    }
    assert_eq!(windows(&"x".repeat(LONGEST + 1)), Some(Fault::TooLong(LONGEST)));
}

#[test]
fn ordinary_and_odd_names_pass() {
    for name in
        ["hive.exe", ".hidden", "Bienen-Stöcke 蜂.txt", "console", "com", "com10", "auxiliary.c", " x", "a;b,c=d"]
    {
        assert_eq!(windows(name), None, "{name:?}");
    }
    assert_eq!(windows(&"x".repeat(LONGEST)), None);
}

#[test]
fn other_systems_take_nearly_everything() {
    for name in ["nul", "a:b", r"a\b", "x.", "Foo::Bar.3pm"] {
        assert_eq!(on_unix(name), None, "{name:?}");
    }
    for (name, fault) in
        [("", Fault::Empty), ("..", Fault::Dots), ("a/b", Fault::Character('/')), ("a\0", Fault::Character('\0'))]
    {
        assert_eq!(on_unix(name), Some(fault));
    }
    assert_eq!(on_unix(&"ö".repeat(128)), Some(Fault::TooLong(LONGEST)));
}
