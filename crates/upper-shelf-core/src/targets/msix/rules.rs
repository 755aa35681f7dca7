//! Whether a manifest is what the published schema demands: the rules stand in `rules.txt`.

use crate::xml::Element;
use regex::Regex;
use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::LazyLock;

/// How often something is there.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Count {
    One,
    Perhaps,
    Some,
    Any,
}

impl Count {
    fn of(sign: &str) -> Self {
        match sign {
            "1" => Self::One,
            "?" => Self::Perhaps,
            "+" => Self::Some,
            _ => Self::Any,
        }
    }

    fn allows(self, count: usize) -> bool {
        match self {
            Self::One => count == 1,
            Self::Perhaps => count <= 1,
            Self::Some => count >= 1,
            Self::Any => true,
        }
    }
}

/// What an element may be.
#[derive(Debug)]
struct Rule {
    name: String,
    count: Count,
    text: Option<Regex>,
    section: String,
    attributes: Vec<(String, Count, Regex)>,
    children: Vec<Rule>,
}

static RULES: LazyLock<Vec<Rule>> = LazyLock::new(|| parsed(include_str!("rules.txt")));

/// A pattern of a whole text, with the types that it names.
fn pattern(text: &str, types: &HashMap<&str, String>) -> String {
    types.iter().fold(text.to_owned(), |all, (name, own)| all.replace(&format!("<{name}>"), &format!("(?:{own})")))
}

fn whole(pattern: &str) -> Regex {
    // A rule that is none is a mistake in `rules.txt`, which the tests read.
    Regex::new(&format!("^(?s:{pattern})$")).expect("a pattern")
}

fn parsed(text: &str) -> Vec<Rule> {
    let mut types: HashMap<&str, String> = HashMap::new();
    let mut roots: Vec<Rule> = Vec::new();
    let mut open: Vec<Rule> = Vec::new();
    let mut close = |open: &mut Vec<Rule>, depth: usize| {
        while open.len() > depth {
            let Some(done) = open.pop() else { break };
            open.last_mut().map_or(&mut roots, |above| &mut above.children).push(done);
        }
    };
    for line in text.lines().filter(|line| !line.trim().is_empty() && !line.starts_with('#')) {
        if let Some((name, own)) = line.strip_prefix("type ").and_then(|rest| rest.split_once(" = ")) {
            let own = pattern(own, &types);
            types.insert(name, own);
            continue;
        }
        let depth = (line.len() - line.trim_start().len()) / 2;
        let (line, section) = line.trim().split_once(" -- ").unwrap_or((line.trim(), ""));
        let mut words = line.splitn(3, ' ');
        let (name, count) = (words.next().unwrap_or_default(), Count::of(words.next().unwrap_or_default()));
        let own = words.next().map(|own| whole(&pattern(own, &types)));
        close(&mut open, depth);
        match name.strip_prefix('@') {
            Some(name) => {
                let above = open.last_mut().expect("attributes stand below an element");
                above.attributes.push((name.into(), count, own.expect("attributes have a pattern")));
            }
            None => open.push(Rule {
                name: name.into(),
                count,
                text: own,
                section: section.into(),
                attributes: Vec::new(),
                children: Vec::new(),
            }),
        }
    }
    close(&mut open, 0);
    roots
}

/// What is wrong with a manifest, of a package or of a bundle. In one that is `ours` nothing may stand that the rules don't know;
/// others may use what they leave out.
pub fn check(root: &Element, ours: bool) -> Vec<String> {
    let mut found = Vec::new();
    let Some(rule) = RULES.iter().find(|rule| rule.name == root.name) else {
        return vec![format!("the manifest is of neither a package nor a bundle, but {}", short(&root.name))];
    };
    against(root, rule, ours, &mut found);
    unique(root, &mut found);
    found.truncate(50);
    found
}

/// The longest text that is repeated in a sentence.
fn short(text: &str) -> String {
    let begin: String = text.chars().take(60).collect();
    if begin.len() < text.len() { format!("{begin:?}…") } else { format!("{begin:?}") }
}

fn against(element: &Element, rule: &Rule, ours: bool, found: &mut Vec<String>) {
    let name = &element.name;
    let mut say = |what: String| found.push(format!("{what} (the schema's section {})", rule.section));
    for (own, count, pattern) in &rule.attributes {
        match element.get(own) {
            None if *count == Count::One => say(format!("{name} lacks {own}")),
            Some(value) if !pattern.is_match(value) => say(format!("{own} of {name} can't be {}", short(value))),
            _ => {}
        }
    }
    let is_known = |own: &str| rule.attributes.iter().any(|(name, ..)| name == own);
    for (own, _) in element.attributes.iter().filter(|(own, _)| ours && !is_known(own)) {
        say(format!("{name} has no {own}"));
    }
    match &rule.text {
        Some(pattern) if !pattern.is_match(&element.text) => say(format!("{name} can't be {}", short(&element.text))),
        None if !element.text.is_empty() => say(format!("{name} holds no text")),
        _ => {}
    }
    let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
    for child in &element.children {
        *counts.entry(&child.name).or_default() += 1;
    }
    for own in &rule.children {
        let count = counts.remove(own.name.as_str()).unwrap_or(0);
        if !own.count.allows(count) {
            say(format!("{name} has {count} of {}", own.name));
        }
    }
    for unknown in counts.keys().filter(|unknown| ours || is_of(unknown, rule)) {
        say(format!("{name} can't hold {unknown}"));
    }
    for child in &element.children {
        if let Some(own) = rule.children.iter().find(|own| own.name == child.name) {
            against(child, own, ours, found);
        }
    }
}

/// Whether an element is one of those that the rules know wholly: without a prefix, outside of lists that others extend.
fn is_of(name: &str, rule: &Rule) -> bool {
    !name.contains(':') && ["Identity", "Resource", "Capability"].contains(&&*rule.name)
}

/// Names that may be there once only.
fn unique(root: &Element, found: &mut Vec<String>) {
    let applications = || root.all("Applications").flat_map(|list| list.all("Application"));
    let mut each = |what: &str, names: Vec<String>| {
        let mut seen = HashSet::new();
        for name in names.iter().filter(|name| !name.is_empty()) {
            if !seen.insert(name.to_lowercase()) {
                found.push(format!("there are two {what} {}", short(name)));
            }
        }
    };
    let of = |element: &Element, name: &str| element.get(name).unwrap_or_default().to_owned();
    let packages = || root.all("Packages").flat_map(|list| list.all("Package"));
    each("packages", packages().map(|one| of(one, "FileName")).collect());
    let of_processor = |one: &Element| {
        let is_application = one.get("Type").is_none_or(|kind| kind == "application");
        if is_application { of(one, "Architecture") } else { String::new() }
    };
    each("packages for the processor", packages().map(of_processor).collect());
    each("applications", applications().map(|one| of(one, "Id")).collect());
    let extensions: Vec<&Element> = applications()
        .flat_map(|one| one.all("Extensions"))
        .flat_map(|list| &list.children)
        .flat_map(|extension| &extension.children)
        .collect();
    let named = |local: &str, name: &str| {
        let all = extensions.iter().filter(|one| one.local() == local);
        all.map(|one| of(one, name)).collect::<Vec<_>>()
    };
    each("link schemes", named("Protocol", "Name"));
    each("file type associations", named("FileTypeAssociation", "Name"));
    each("services", named("Service", "Name"));
    each("tasks at the start", named("StartupTask", "TaskId"));
    let aliases = extensions.iter().filter(|one| one.local() == "AppExecutionAlias");
    each("names at a command prompt", aliases.flat_map(|one| &one.children).map(|one| of(one, "Alias")).collect());
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::app_manifest::NAMESPACES;

    const GOOD: &str = r#"<Package xmlns="http://schemas.microsoft.com/appx/manifest/foundation/windows10"
        xmlns:uap="http://schemas.microsoft.com/appx/manifest/uap/windows10"
        xmlns:rescap="http://schemas.microsoft.com/appx/manifest/foundation/windows10/restrictedcapabilities" IgnorableNamespaces="uap">
        <Identity Name="works.fernhollow.hive" Publisher="CN=Fern, O=&quot;Fern, Hollow&quot;" Version="1.2.65535.0" ProcessorArchitecture="x64"/>
        <Properties><DisplayName>Hive</DisplayName><PublisherDisplayName>Fern</PublisherDisplayName><Logo>a\b.png</Logo></Properties>
        <Dependencies><TargetDeviceFamily Name="Windows.Desktop" MinVersion="10.0.17763.0" MaxVersionTested="10.0.22621.0"/></Dependencies>
        <Resources><Resource Language="en-us"/></Resources>
        <Applications><Application Id="Hive" Executable="bin\hive.exe" EntryPoint="Windows.FullTrustApplication">
        <uap:VisualElements DisplayName="Hive" Description="x" BackgroundColor="transparent" Square150x150Logo="a.png" Square44x44Logo="b.png"/>
        </Application></Applications><Capabilities><rescap:Capability Name="runFullTrust"/></Capabilities></Package>"#;

    fn said(text: &str, ours: bool) -> Vec<String> {
        check(&Element::read(text.as_bytes(), NAMESPACES).expect("XML"), ours)
    }

    #[test]
    fn each_rule_is_told() {
        assert_eq!(said(GOOD, true), Vec::<String>::new());
        for (from, to, told) in [
            ("1.2.65535.0", "1.2.65536.0", "Version of Identity can't be"),
            ("1.2.65535.0", "1.2.3.4.5", "Version of Identity can't be"),
            ("works.fernhollow.hive", "a_b", "Name of Identity can't be"),
            ("CN=Fern, ", "Fern, ", "Publisher of Identity can't be"),
            ("x64", "x65", "ProcessorArchitecture of Identity"),
            ("<DisplayName>Hive</DisplayName>", "", "Properties has 0 of DisplayName"),
            ("<DisplayName>Hive<", "<DisplayName><", "DisplayName can't be \"\""),
            ("a\\b.png", "a\\b.gif", "Logo can't be"),
            ("Id=\"Hive\"", "Id=\"1\"", "Id of Application"),
            ("Id=\"Hive\" ", "", "Application lacks Id"),
            ("hive.exe", "hive.dll", "Executable of Application"),
            ("<Resource ", "<Wasp/><Resource ", "Resources can't hold Wasp"),
            ("MinVersion=", "MinVersions=", "TargetDeviceFamily lacks MinVersion"),
        ] {
            let all = said(&GOOD.replacen(from, to, 1), true);
            assert!(all.iter().any(|what| what.contains(told)), "{from} → {to}: {all:?}");
        }
        let twice = GOOD.replace("</Application>", "</Application><Application Id=\"hive\"><uap:VisualElements DisplayName=\"Hive\" Description=\"x\" BackgroundColor=\"transparent\" Square150x150Logo=\"a.png\" Square44x44Logo=\"b.png\"/></Application>");
        assert_eq!(said(&twice, true), ["there are two applications \"hive\""]);
        // Others may use what the rules leave out.
        let other = GOOD.replace("<Resources>", "<Wasp/><Resources>");
        assert_eq!(said(&other, false), Vec::<String>::new());
        assert!(said("<a/>", true)[0].contains("neither a package nor a bundle, but \"a\""));
    }

    #[test]
    fn every_rule_has_its_section() {
        fn each(rule: &Rule) {
            assert!(!rule.section.is_empty(), "{}", rule.name);
            rule.children.iter().for_each(each);
        }
        RULES.iter().for_each(each);
        assert_eq!(RULES.iter().map(|rule| rule.name.as_str()).collect::<Vec<_>>(), ["Package", "Bundle"]);
    }
}
