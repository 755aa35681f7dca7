//! A product that names everything that a manifest can, and its files.

use std::os::unix::fs::PermissionsExt;
use upper_shelf_core::packaging::Progress;

/// Nobody looks on.
pub struct Quiet;

impl Progress for Quiet {
    fn begin(&self, _: &[&str], _: u64) {}
    fn advance(&self, _: u64) {}
    fn verifying(&self) {}
    fn end(&self) {}
}

/// Everything that a manifest can name, once.
pub const RIGHT: &str = r##"[product]
id = "works.fernhollow.hives"
name = "Hives"
version = "1.4.0"
publisher = "Fernhollow Apiary Works"
summary = "All hives at a glance"
homepage = "https://fernhollow.example"
categories = ["Office"]
released = "2026-11-20"

[[layer]]
from = "built"
into = "share"
keep = ["**"]

[[program]]
key = "app"
file = "share/hives"
working-folder = "home"
arguments = ["--all"]
environment = { HIVES = "all" }
command = "hives"

[[shortcut]]
program = "app"
name = "Hives"

[[file-type]]
program = "app"
extensions = ["hive"]
name = "Hive"
mime = "application/x-hive"

[[link-scheme]]
scheme = "hives"
program = "app"

[[environment]]
name = "HIVES_SEASON"
value = "2026"

[[registry]]
key = 'Software\Fernhollow\Hives'
name = "Season"
value = { number = 2026 }

[[service]]
name = "HiveScale"
program = "app"

[[font]]
file = "share/hive.ttf"
title = "Hive Sans"

[[manual]]
file = "share/hives.1"

[[completion]]
shell = "bash"
file = "share/hives.bash"

[[choice]]
key = "samples"
title = { en = "Samples", de = "Beispiele" }
files = ["share/sample*"]

[install]
scope = "machine"
folder = "Fernhollow/Hives"
minimum-windows = "10.0.17763"
minimum-macos = "11.0"
start-at-end = "app"
keep-changed = ["share/sample*"]

[bundle]
names = { de = "Stöcke" }

[permissions]
camera = "To photograph frames"

[wizard]
pages = ["start", "choices"]
accent = "#e8a028"
languages = ["en", "de"]

[wizard.words.de]
back = "Zurück"

[targets]
platforms = ["linux-x64", "windows-x64", "macos-arm64"]
build = ["tar", "zip", "msi", "nsis", "dmg"]

[target.msi]
version = "1.4.0"
"##;

/// The folder of its manifest, which is still to be written, with what was built.
pub fn folder() -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    let built = folder.path().join("built");
    std::fs::create_dir(&built).unwrap();
    for name in ["hives", "hive.ttf", "hives.1", "hives.bash", "sample.hive"] {
        std::fs::write(built.join(name), "#!/bin/sh\n").unwrap();
    }
    std::fs::set_permissions(built.join("hives"), std::fs::Permissions::from_mode(0o755)).unwrap();
    folder
}
