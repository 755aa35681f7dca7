//! The application's manifest: what Windows should know before it starts a program.
//!
//! Source of the format's facts: Microsoft's "Application manifests", as published.

use crate::resources::{Key, Resources, kinds};

/// The resource's number in a program, and its language: none.
const NUMBER: u16 = 1;

/// What a program says of itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Manifest {
    /// Whether it asks for an administrator when it starts.
    pub administrator: bool,
    /// Whether it uses the system's newer controls.
    pub themed: bool,
    /// Whether it draws for each screen's own resolution.
    pub every_resolution: bool,
    /// Whether paths of more than 260 letters reach it unharmed.
    pub long_paths: bool,
}

/// Windows 7, 8, 8.1, and 10 with 11: a program that names them is told their true version.
const SYSTEMS: [&str; 4] = [
    "35138b9a-5d96-4fbd-8e2d-a2440225f93a",
    "4a2f28e3-53b9-4441-ba9c-d69d4a4a6e38",
    "1f676c76-80e1-4239-95bb-83d0f6d0da78",
    "8e0f7a12-bfb3-4fe8-b9a5-48fd50a15a9a",
];

impl Manifest {
    /// The document.
    pub fn xml(&self) -> String {
        let level = if self.administrator { "requireAdministrator" } else { "asInvoker" };
        let mut xml = String::from(
            "<?xml version=\"1.0\" encoding=\"UTF-8\" standalone=\"yes\"?>\n<assembly xmlns=\"urn:schemas-microsoft-com:asm.v1\" manifestVersion=\"1.0\">\n",
        );
        if self.themed {
            xml += "<dependency><dependentAssembly><assemblyIdentity type=\"win32\" name=\"Microsoft.Windows.Common-Controls\" version=\"6.0.0.0\" processorArchitecture=\"*\" publicKeyToken=\"6595b64144ccf1df\" language=\"*\"/></dependentAssembly></dependency>\n";
        }
        xml += &format!(
            "<trustInfo xmlns=\"urn:schemas-microsoft-com:asm.v3\"><security><requestedPrivileges><requestedExecutionLevel level=\"{level}\" uiAccess=\"false\"/></requestedPrivileges></security></trustInfo>\n"
        );
        xml += "<compatibility xmlns=\"urn:schemas-microsoft-com:compatibility.v1\"><application>";
        for id in SYSTEMS {
            xml += &format!("<supportedOS Id=\"{{{id}}}\"/>");
        }
        xml +=
            "</application></compatibility>\n<application xmlns=\"urn:schemas-microsoft-com:asm.v3\"><windowsSettings>";
        if self.every_resolution {
            xml += "<dpiAware xmlns=\"http://schemas.microsoft.com/SMI/2005/WindowsSettings\">true/pm</dpiAware><dpiAwareness xmlns=\"http://schemas.microsoft.com/SMI/2016/WindowsSettings\">PerMonitorV2, PerMonitor</dpiAwareness>";
        }
        if self.long_paths {
            xml +=
                "<longPathAware xmlns=\"http://schemas.microsoft.com/SMI/2016/WindowsSettings\">true</longPathAware>";
        }
        xml += "</windowsSettings></application>\n</assembly>\n";
        xml
    }

    /// Puts it into a program's resources, in place of one that is there.
    pub fn put(&self, resources: &mut Resources) {
        resources.remove(kinds::MANIFEST, |_| true);
        resources.put(kinds::MANIFEST, Key::Id(NUMBER), 0, self.xml().into_bytes());
    }
}
