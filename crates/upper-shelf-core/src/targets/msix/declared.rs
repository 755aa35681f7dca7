//! What a package declares by the wish of its manifest alone: further capabilities, and packages that it needs.
//!
//! Source: Microsoft, "App capability declarations"; the schema's section "PackageDependency".

use super::{manifest, permissions};
use crate::footprint::{Foreign, List};
use crate::problem::{Code, Problem};
use crate::settings::{Framework, Msix};
use crate::xml::Element;

/// Capabilities by the element that declares them, in the order in which elements stand: devices come last.
const CAPABILITIES: [(&str, &[&str]); 7] = [
    ("Capability", &["codeGeneration", "internetClient", "internetClientServer", "privateNetworkClientServer"]),
    (
        "uap:Capability",
        &[
            "appointments",
            "contacts",
            "documentsLibrary",
            "enterpriseAuthentication",
            "musicLibrary",
            "objects3D",
            "picturesLibrary",
            "removableStorage",
            "sharedUserCertificates",
            "userAccountInformation",
            "videosLibrary",
        ],
    ),
    ("uap3:Capability", &["backgroundMediaPlayback", "remoteSystem", "userNotificationListener"]),
    ("uap6:Capability", &["graphicsCapture"]),
    ("uap7:Capability", &["globalMediaControl"]),
    (
        "rescap:Capability",
        &[
            "allowElevation",
            "appDiagnostics",
            "broadFileSystemAccess",
            "confirmAppClose",
            "extendedExecutionUnconstrained",
            "inputForegroundObservation",
            "inputInjectionBrokered",
            "localSystemServices",
            "modifiableApp",
            "packageManagement",
            "packageQuery",
            "packageWriteRedirectionCompatibilityShim",
            "packagedServices",
            "runFullTrust",
            "unvirtualizedResources",
        ],
    ),
    (
        "DeviceCapability",
        &[
            "bluetooth",
            "humaninterfacedevice",
            "location",
            "microphone",
            "optical",
            "pointOfService",
            "proximity",
            "radios",
            "serialcommunication",
            "usb",
            "webcam",
            "wiFiControl",
        ],
    ),
];

/// Those that a package has because of what is in it.
const OWN: [&str; 3] = ["localSystemServices", "packagedServices", "runFullTrust"];

/// Where an element stands among others.
pub fn order(element: &str) -> usize {
    CAPABILITIES.iter().position(|(own, _)| *own == element).unwrap_or(CAPABILITIES.len())
}

/// The element and the name of a capability as manifests state it: a known name, or a new one with its element before it, such as
/// `rescap:NAME`. None for what nobody knows.
pub fn capability(stated: &str) -> Option<(&'static str, &str)> {
    if let Some((prefix, name)) = stated.split_once(':') {
        let own =
            CAPABILITIES.iter().find(|(element, _)| element.split_once(':').is_some_and(|(own, _)| own == prefix));
        let is_name = name.starts_with(|c: char| c.is_ascii_alphabetic())
            && name.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'.' || b == b'_');
        return own.filter(|_| is_name).map(|(element, _)| (*element, name));
    }
    CAPABILITIES.iter().find(|(_, names)| names.contains(&stated)).map(|(element, _)| (*element, stated))
}

/// A package that this one needs, as the manifest names it.
pub fn dependency(framework: &Framework) -> Element {
    Element::new("PackageDependency")
        .with("Name", framework.name.as_str())
        .with("Publisher", framework.publisher.as_str())
        .with("MinVersion", manifest::version(&framework.version).unwrap_or_else(|_| "0.0.0.0".into()))
}

/// A package that this one needs, for people.
pub fn shown(framework: &Framework) -> String {
    needs(&framework.name, &manifest::version(&framework.version).unwrap_or_default())
}

fn needs(name: &str, version: &str) -> String {
    if version.is_empty() { name.to_owned() } else { format!("{name} from {version}") }
}

fn said(about: &str, text: String) -> Foreign {
    Foreign::Said { about: about.into(), text }
}

/// What footprints say of all this, of a package that is planned.
pub fn declared(settings: &Msix) -> List<Foreign> {
    let names = settings.capabilities.iter().filter_map(|stated| Some(capability(stated)?.1.to_owned()));
    let needed = settings.frameworks.iter().map(|framework| {
        let version = manifest::version(&framework.version).unwrap_or_default();
        (framework.name.clone(), version)
    });
    told(further(names), needed.collect())
}

/// Capabilities but for those of permissions, and those that a package has because of what is in it.
pub fn further(capabilities: impl Iterator<Item = String>) -> Vec<String> {
    let is_own = |name: &String| OWN.contains(&name.as_str()) || permissions::access(name).is_some();
    let mut further: Vec<String> = capabilities.filter(|name| !is_own(name)).collect();
    further.sort();
    further.dedup();
    further
}

/// What footprints say of capabilities, and of the packages that one needs, with their smallest versions.
pub fn told(capabilities: Vec<String>, needed: Vec<(String, String)>) -> List<Foreign> {
    let mut all: Vec<Foreign> =
        needed.into_iter().map(|(name, version)| said("needs", needs(&name, &version))).collect();
    if !capabilities.is_empty() {
        all.push(said("capabilities", capabilities.join(", ")));
    }
    all.into()
}

/// What can't be declared.
pub fn check(settings: &Msix) -> Vec<Problem> {
    let mut problems = Vec::new();
    for (n, stated) in settings.capabilities.iter().enumerate() {
        let about = |problem: Problem| problem.about_setting(format!("target.msix.capabilities.{n}"));
        let known = capability(stated);
        if let Some(access) = known.and_then(|(_, name)| permissions::access(name)) {
            let problem = Problem::error(Code::InvalidValue, format!("[permissions] declares {stated:?}"));
            let instead = format!("[permissions]\n{} = true", access.name());
            problems.push(about(problem.why("it is the same wish on every system").instead(instead)));
        } else if known.is_none() {
            let near = CAPABILITIES.iter().flat_map(|(_, names)| *names).find(|own| own.eq_ignore_ascii_case(stated));
            let problem = Problem::error(Code::InvalidValue, format!("{stated:?} is not a capability"));
            let instead = match near {
                Some(own) => format!("{own:?}"),
                None => "the name as Windows has it; a new one with its namespace, such as \"rescap:NAME\"".into(),
            };
            problems
                .push(about(problem.why("Windows refuses packages that ask for one it doesn't know").instead(instead)));
        }
    }
    for (n, framework) in settings.frameworks.iter().enumerate() {
        if let Err(why) = manifest::version(&framework.version) {
            let what = format!("{} can't have the version {:?}", framework.name, framework.version);
            let problem = Problem::error(Code::InvalidValue, what).why(why);
            let about = format!("target.msix.framework.{n}.version");
            problems.push(problem.about_setting(about).instead("the smallest that will do, up to four numbers"));
        }
    }
    problems
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::footprint::Access;

    #[test]
    fn capabilities_are_known_once_and_by_their_element() {
        let mut names: Vec<&str> = CAPABILITIES.iter().flat_map(|(_, names)| *names).copied().collect();
        let count = names.len();
        names.sort_unstable();
        names.dedup();
        assert_eq!(names.len(), count);
        for (stated, expected) in [
            ("allowElevation", Some(("rescap:Capability", "allowElevation"))),
            ("serialcommunication", Some(("DeviceCapability", "serialcommunication"))),
            ("rescap:brandNew_1", Some(("rescap:Capability", "brandNew_1"))),
            ("uap6:more", Some(("uap6:Capability", "more"))),
            ("AllowElevation", None),
            ("wasp:allowElevation", None),
            ("rescap:", None),
            ("rescap:a b", None),
            ("", None),
        ] {
            assert_eq!(capability(stated), expected, "{stated}");
        }
        assert!(
            order("Capability") < order("rescap:Capability") && order("uap7:Capability") < order("DeviceCapability")
        );
    }

    #[test]
    fn every_permission_has_the_element_that_its_capability_has() {
        for own in Access::ALL.into_iter().filter_map(permissions::capability) {
            assert_eq!(capability(own.name), Some((own.element, own.name)));
        }
    }

    #[test]
    fn what_a_package_has_anyway_is_not_said() {
        let all = further(["runFullTrust", "webcam", "packageQuery", "allowElevation"].map(str::to_owned).into_iter());
        let needed = vec![("A.Runtime".to_owned(), "1.2.0.0".to_owned())];
        let said: Vec<String> = told(all, needed).iter().map(|one| format!("{one:?}")).collect();
        assert_eq!(said.len(), 2);
        assert!(said.iter().any(|one| one.contains("allowElevation, packageQuery")), "{said:?}");
        assert!(said.iter().any(|one| one.contains("A.Runtime from 1.2.0.0")), "{said:?}");
        assert!(told(further(std::iter::once("runFullTrust".into())), Vec::new()).is_empty());
    }
}
