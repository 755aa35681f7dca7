//! What only one format has: every default is taken here, and shown.

use super::{Default as Taken, Resolver};
use crate::footprint::SystemVersion;
use crate::languages::drag_to_install;
use crate::manifest::Project;
use crate::manifest::formats::{FrameworkSettings, Wish};
use crate::platform::System;
use crate::secret;
use crate::settings::{
    AppInstaller, Appimage, CodePage, CodeSigning, DiskImage, Dmg, ExistingSignatures, Framework, FurtherFile, Msi,
    Msix, Nsis, OpenPgpSigning, Portable, Settings, Signing, Tar, TargetName, UpdateCheck, UpdatePrompt, Words, Zip,
};
use serde::Serialize;

/// Takes defaults for one format, and notes them if it is built.
struct Table<'r, 'p> {
    resolver: &'r mut Resolver<'p>,
    name: &'static str,
    is_built: bool,
}

impl Table<'_, '_> {
    fn note(&mut self, key: &str, value: String, why: &str) {
        if self.is_built {
            let key = format!("target.{}.{key}", self.name);
            self.resolver.defaults.push(Taken { key, value, why: why.into(), is_detail: true });
        }
    }

    fn take<T: Copy + Serialize>(&mut self, key: &str, written: Option<T>, usual: T, why: &str) -> T {
        written.unwrap_or_else(|| {
            // As a manifest would say it: numbers and names are the same in JSON.
            let shown = serde_json::to_string(&usual).unwrap_or_default();
            self.note(key, shown.trim_matches('"').to_owned(), why);
            usual
        })
    }
}

impl<'p> Resolver<'p> {
    fn table<'r>(&'r mut self, target: TargetName, targets: &[TargetName]) -> Table<'r, 'p> {
        Table { is_built: targets.contains(&target), resolver: self, name: target.name() }
    }

    /// What each format has; `targets` are those that are built.
    pub(super) fn settings(&mut self, targets: &[TargetName]) -> Settings {
        let written = &self.project.manifest.target;
        Settings {
            appimage: self.appimage(targets),
            zip: {
                let mut table = self.table(TargetName::Zip, targets);
                let why = "harder packing takes longer and gains little";
                Zip { level: table.take("level", written.zip.level, Zip::default().level, why) }
            },
            tar: self.tar(targets),
            msi: self.msi(targets),
            msix: self.msix(targets),
            nsis: self.nsis(targets),
            portable: {
                let mut table = self.table(TargetName::Portable, targets);
                let program = written.portable.program.clone();
                if program.is_none() {
                    table.note("program", "the first one".into(), "no program is named");
                }
                let why = "a user finds them where those of other programs are";
                Portable {
                    program,
                    settings: table.take("settings", written.portable.settings, Default::default(), why),
                }
            },
            dmg: {
                let mut table = self.table(TargetName::Dmg, targets);
                let usual = Dmg::default();
                let why = "every macOS reads it";
                let compression = table.take("compression", written.dmg.compression, usual.compression, why);
                Dmg { compression, level: table.take("level", written.dmg.level, usual.level, "smallest") }
            },
        }
    }

    fn appimage(&mut self, targets: &[TargetName]) -> Appimage {
        let written = &self.project.manifest.target.appimage;
        let mut table = self.table(TargetName::Appimage, targets);
        let usual = Appimage::default();
        let why = "small, and by far the fastest to unpack";
        let compression = table.take("compression", written.compression, usual.compression, why);
        let level = Appimage::usual_level(compression);
        let level = table.take("level", written.level, level, "harder packing takes longer and gains little");
        let why = "large blocks are packed better";
        let block_size = table.take("block-size", written.block_size, usual.block_size, why);
        Appimage { compression, level, block_size, update_information: written.update_information.clone() }
    }

    fn tar(&mut self, targets: &[TargetName]) -> Tar {
        let written = &self.project.manifest.target.tar;
        let mut table = self.table(TargetName::Tar, targets);
        let compression =
            table.take("compression", written.compression, Tar::default().compression, "it is everywhere");
        let level = Tar::usual_level(compression);
        let why = "harder packing takes longer and gains little";
        Tar { compression, level: table.take("level", written.level, level, why) }
    }

    fn msi(&mut self, targets: &[TargetName]) -> Msi {
        let product = &self.project.manifest.product;
        let written = &self.project.manifest.target.msi;
        let mut table = self.table(TargetName::Msi, targets);
        let usual = Msi::default();
        if written.version.is_none() {
            table.note("version", product.version.clone(), "the product's");
        }
        if written.upgrade_code.is_none() {
            table.note("upgrade-code", "made from the product's id".into(), "it stays the same for every version");
        }
        let code_page = written.code_page.map_or_else(
            || {
                table.note("code-page", "1252 or 65001".into(), "the first if it holds every text, else UTF-8");
                CodePage::Fitting
            },
            CodePage::Number,
        );
        Msi {
            compression: table.take("compression", written.compression, usual.compression, "smallest"),
            version: written.version.clone(),
            cabinets: table.take("cabinets", written.cabinets, usual.cabinets, "one file is easier to hand out"),
            cabinet_megabytes: table.take(
                "cabinet-megabytes",
                written.cabinet_megabytes,
                usual.cabinet_megabytes,
                "the most that a cabinet holds",
            ),
            code_page,
        }
    }

    fn msix(&mut self, targets: &[TargetName]) -> Msix {
        let product = &self.project.manifest.product;
        let written = &self.project.manifest.target.msix;
        let languages = self.project.manifest.wizard.languages.clone().filter(|all| !all.is_empty());
        let usual = Msix::default();
        let tested = written.tested_windows.as_deref().map(|text| text.parse::<SystemVersion>());
        if let Some(Err(why)) = &tested {
            let what = format!("the tested Windows {why}");
            self.problem("target.msix.tested-windows", what, "it is a version of Windows", "\"10.0.22621\"");
        }
        if let Some(written) = &written.app_installer
            && !written.address.starts_with("https://")
        {
            let why = "Windows takes updates from a server only, and nobody on the way may change them";
            let what = format!("{:?} is no address of a server", written.address);
            let instead = "address = \"https://fernhollow.example/packages\"";
            self.problem("target.msix.app-installer.address", what, why, instead);
        }
        let mut table = self.table(TargetName::Msix, targets);
        if written.name.is_none() {
            table.note("name", product.id.clone(), "the product's id");
        }
        if written.publisher.is_none() {
            table.note("publisher", "the subject of the certificate".into(), "Windows demands that both are the same");
        }
        if written.version.is_none() {
            table.note("version", product.version.clone(), "the product's");
        }
        if tested.is_none() {
            table.note("tested-windows", format!("10.0.{}", usual.tested_windows), "the usual one");
        }
        let why = "harder packing takes longer and gains little";
        Msix {
            name: written.name.clone(),
            publisher: written.publisher.clone(),
            version: written.version.clone(),
            tested_windows: tested.and_then(Result::ok).and_then(|v| v.patch).unwrap_or(usual.tested_windows),
            languages: languages.unwrap_or(usual.languages),
            level: table.take("level", written.level, usual.level, why),
            bundle: written.bundle,
            capabilities: written.capabilities.clone(),
            frameworks: written
                .framework
                .iter()
                .map(|FrameworkSettings { name, publisher, version }| Framework {
                    name: name.clone(),
                    publisher: publisher.clone(),
                    version: version.clone(),
                })
                .collect(),
            app_installer: written.app_installer.as_ref().map(|written| AppInstaller {
                address: written.address.clone(),
                check: table.take(
                    "app-installer.check",
                    written.check,
                    UpdateCheck::default(),
                    "users get every version",
                ),
                prompt: table.take("app-installer.prompt", written.prompt, UpdatePrompt::default(), "nobody waits"),
                hours: table.take("app-installer.hours", written.hours, 24, "once a day is enough"),
            }),
        }
    }

    fn nsis(&mut self, targets: &[TargetName]) -> Nsis {
        let written = &self.project.manifest.target.nsis;
        // Portable programs are packed alike.
        let is_built = targets.contains(&TargetName::Nsis) || targets.contains(&TargetName::Portable);
        let mut table = Table { is_built, resolver: self, name: TargetName::Nsis.name() };
        let usual = Nsis::default();
        let compression = table.take("compression", written.compression, usual.compression, "smallest");
        let why = "more takes memory when it is installed; small products take less";
        let megabytes =
            table.take("dictionary-megabytes", written.dictionary_megabytes, usual.dictionary_megabytes, why);
        Nsis { compression, dictionary_megabytes: megabytes }
    }

    /// A file that the window needs.
    fn file_of_window(&mut self, key: &str, path: &str) -> Vec<u8> {
        crate::input::read(&self.project.folder.join(path)).unwrap_or_else(|e| {
            self.problem(key, format!("{path} can't be read"), &e.to_string(), "a file beside the manifest");
            Vec::new()
        })
    }

    /// The key that signs for a system.
    pub(super) fn signing(&mut self) -> Option<Signing> {
        for table in self.project.manifest.signing.with_two_secrets() {
            let what = format!("[signing.{table}] names two places for one secret");
            let key = format!("signing.{table}.secret-keyring");
            self.problem(&key, what, "`secret-variable` names the other", "one of the two");
        }
        let signing = self.project.signing(self.platform.system())?;
        if self.platform.system() == System::Macos {
            let written = self.project.manifest.signing.macos.as_ref();
            if written.is_some_and(|w| w.hardened_runtime.is_none()) {
                let why = "programs are guarded while they run, and the notary demands it";
                self.default("signing.macos.hardened-runtime", "true", why);
            }
            if written.is_some_and(|w| w.existing.is_none()) {
                self.default("signing.macos.existing", "\"keep\"", "what others have signed is theirs");
            }
        }
        if signing.timestamps.is_empty() {
            let why = "without one a signature holds only while its certificate does";
            self.default(&format!("signing.{}.timestamps", self.platform.system().name()), "none", why);
        }
        Some(signing)
    }

    /// The window of disk images, with the files that it names.
    pub(super) fn disk_image(&mut self, targets: &[TargetName]) -> DiskImage {
        let written = &self.project.manifest.disk_image;
        let is_built = targets.contains(&TargetName::Dmg);
        let pair = |p: [u32; 2]| (p[0], p[1]);
        let usual = DiskImage::of_size(written.window.map_or(DiskImage::default().size, pair));
        let mut note = |is_silent: bool, key: &str, value: String, why: &str, is_detail: bool| {
            if is_built && is_silent {
                self.defaults.push(Taken { key: format!("disk-image.{key}"), value, why: why.into(), is_detail });
            }
        };
        let place = |(x, y): (u32, u32)| format!("[{x}, {y}]");
        let why = "room for two symbols and an arrow between them";
        note(written.window.is_none(), "window", place(usual.size), why, false);
        let what = "a drawing in the colour of the icon".to_owned();
        note(written.background.is_none(), "background", what, "the manifest names no picture", false);
        note(written.icon_size.is_none(), "icon-size", usual.icon.to_string(), "seen well from afar", true);
        note(written.text_size.is_none(), "text-size", usual.text.to_string(), "the system's own", true);
        note(
            written.program.is_none(),
            "program",
            place(usual.program),
            "on the left, a little above the middle",
            true,
        );
        note(written.applications.is_none(), "applications", place(usual.applications), "on the right, as high", true);
        let languages = self.project.manifest.wizard.languages.clone().unwrap_or_default();
        let language = languages.first().map_or("en", String::as_str);
        let words = match &written.word {
            Some(stated) if stated.is_empty() => Words::None,
            Some(stated) => Words::Stated(stated.clone()),
            None => drag_to_install(language).map_or(Words::None, |words| Words::Usual(words.to_owned())),
        };
        if let Words::Usual(words) = &words
            && is_built
            && written.background.is_none()
        {
            self.default("disk-image.word", &format!("{words:?}"), "in the first language of the wizard");
        }
        let mut files = Vec::new();
        for (n, file) in written.file.iter().enumerate() {
            let bytes = self.file_of_window(&format!("disk-image.file.{n}.from"), &file.from);
            let name = file.from.rsplit(['/', '\\']).next().unwrap_or_default().to_owned();
            files.push(FurtherFile { name, bytes, place: pair(file.at) });
        }
        DiskImage {
            icon: written.icon_size.unwrap_or(usual.icon),
            text: written.text_size.unwrap_or(usual.text),
            program: written.program.map_or(usual.program, pair),
            applications: written.applications.map_or(usual.applications, pair),
            volume_name: written.volume_name.clone(),
            background: written.background.as_ref().map(|p| self.file_of_window("disk-image.background", p)),
            words,
            files,
            ..usual
        }
    }
}

impl Project {
    /// The key that signs for a system, if the manifest names one.
    pub fn signing(&self, system: System) -> Option<Signing> {
        let signing = &self.manifest.signing;
        Some(match system {
            System::Windows => {
                let written = signing.windows.as_ref()?;
                let (digest, page_hashes) = (written.digest, written.page_hashes);
                let secret = secret::Place::of(written.secret_variable.clone(), written.secret_keyring.clone());
                let clock = (&written.timestamps[..], &written.timestamp_roots);
                let usual = self.signing_with(system, &written.key, &written.certificate, secret, clock);
                Signing { digest, page_hashes, ..usual }
            }
            System::Linux => {
                let written = signing.linux.as_ref()?;
                let secret = secret::Place::of(written.secret_variable.clone(), written.secret_keyring.clone());
                let clock = (&written.timestamps[..], &written.timestamp_roots);
                let usual = self.signing_with(system, &written.key, &written.certificate, secret, clock);
                Signing { digest: written.digest, ..usual }
            }
            System::Macos => return self.code_signing().key,
        })
    }

    /// The key that signs with OpenPGP, if the manifest names one.
    pub fn openpgp(&self) -> Option<OpenPgpSigning> {
        let written = self.manifest.signing.openpgp.as_ref()?;
        Some(OpenPgpSigning {
            key: self.folder.join(&written.key),
            secret: secret::Place::of(written.secret_variable.clone(), written.secret_keyring.clone()),
        })
    }

    /// How code for macOS is signed; ad hoc, if the manifest says nothing of it.
    pub fn code_signing(&self) -> CodeSigning {
        let wanted = self.manifest.permissions.given().into_iter();
        let permissions = wanted.filter(|(_, wish)| **wish != Wish::Plain(false)).map(|(access, _)| access).collect();
        let Some(written) = &self.manifest.signing.macos else {
            return CodeSigning { permissions, ..CodeSigning::default() };
        };
        let key = written.key.as_ref().map(|key| {
            let secret = secret::Place::of(written.secret_variable.clone(), written.secret_keyring.clone());
            let clock = (&written.timestamps[..], &written.timestamp_roots);
            self.signing_with(System::Macos, key, &written.certificate, secret, clock)
        });
        CodeSigning {
            runtime: key.is_some() && written.hardened_runtime.unwrap_or(true),
            key,
            entitlements: self.inside(&written.entitlements),
            replace: written.existing == Some(ExistingSignatures::Replace),
            team: written.team.clone(),
            permissions,
        }
    }

    /// What the tables of all systems have: key, certificate, secret, and the authorities for timestamps with their roots.
    fn signing_with(
        &self,
        system: System,
        key: &str,
        certificate: &Option<String>,
        secret: Option<secret::Place>,
        (timestamps, roots): (&[String], &Option<String>),
    ) -> Signing {
        Signing {
            system,
            key: self.key(key),
            certificates: self.inside(certificate),
            secret,
            timestamps: timestamps.to_vec(),
            timestamp_roots: self.inside(roots),
            digest: None,
            page_hashes: false,
        }
    }

    /// A key's own name, or its file.
    fn key(&self, written: &str) -> std::path::PathBuf {
        match written.strip_prefix("program:") {
            _ if written.starts_with("pkcs11:") => written.into(),
            Some(program) => format!("program:{}", self.folder.join(program).display()).into(),
            None => self.folder.join(written),
        }
    }

    fn inside(&self, path: &Option<String>) -> Option<std::path::PathBuf> {
        path.as_ref().map(|path| self.folder.join(path))
    }
}
