//! Where libraries come from.

use super::Resolver;
use super::sources::Placed;
use crate::footprint::RelPath;
use crate::libraries::Libraries;
use crate::platform::System;
use crate::problem::Code;
use std::path::PathBuf;

impl Resolver<'_> {
    /// The folders that libraries come from on this platform.
    pub(super) fn libraries(&mut self) -> Vec<Libraries> {
        let project = self.project;
        let mut all = Vec::new();
        for (n, written) in project.manifest.libraries.iter().enumerate() {
            let setting = format!("libraries.{n}");
            if !self.applies(&written.platforms) {
                continue;
            }
            if self.platform.system() == System::Macos {
                let what = "libraries are collected for Linux and Windows only".to_owned();
                let why = "those of macOS name each other by paths, which are not rewritten";
                let instead = "platforms = [\"linux\", \"windows\"], and for macOS a [[layer]] with the libraries";
                self.problem(&setting, what, why, instead);
                continue;
            }
            let folders = match &written.from {
                Some(from) => match from.on(self.platform) {
                    Some((folders, _)) => folders.clone(),
                    None => continue,
                },
                None => vec![String::new()],
            };
            let mut placed = Vec::new();
            for folder in &folders {
                let from = crate::manifest::written::PerPlatform::Same(folder.clone());
                let from = Some(&from).filter(|_| written.from.is_some());
                placed.extend(self.placed(
                    &setting,
                    "libraries",
                    (written.source.as_deref(), from, written.into.as_ref()),
                ));
            }
            if folders.is_empty() {
                let what = "`from` names no folder".to_owned();
                self.problem_of(
                    Code::MissingKey,
                    &format!("{setting}.from"),
                    what,
                    "",
                    "from = [\"a toolkit's folder\"]",
                );
            }
            let Some(Placed { source, into, .. }) = placed.first() else { continue };
            let (source, mut into) = (source.clone(), into.clone());
            if into.is_none() && written.into.is_none() {
                into = match self.platform.system() {
                    System::Linux | System::Macos => RelPath::new("lib").ok(),
                    System::Windows => {
                        let first =
                            project.manifest.program.iter().find_map(|program| self.select(program.file.as_ref()?));
                        first.and_then(|file| RelPath::new(file.replace('\\', "/")).ok()?.parent())
                    }
                };
            }
            let label = placed.iter().map(|placed| placed.label.as_str()).collect::<Vec<_>>().join(", ");
            let from: Vec<PathBuf> = placed.into_iter().map(|placed| placed.from).collect();
            let (base, also, drop) = (written.base.clone(), written.also.clone(), written.drop.clone());
            all.push(Libraries { source, from, into, base, also, drop, label, setting });
        }
        all
    }
}
