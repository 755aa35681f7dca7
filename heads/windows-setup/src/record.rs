//! The record: what is installed, and what was there before. It lies in the product's folder and is all that an upgrade
//! and a removal go by.

use crate::files;
use crate::journal::{broken, Fields, Line};
use crate::registry::{At, Data};
use crate::services::Config;
use crate::system::{same, Result};
use alloc::collections::BTreeMap;
use alloc::format;
use alloc::string::String;
use alloc::vec::Vec;
use sha2::{Digest, Sha256};

/// Its file, and the program that removes the product.
pub const NAME: &str = "uninstall.dat";
pub const PROGRAM: &str = "uninstall.exe";

/// Something between others in a variable, such as a folder in a path.
#[derive(Clone, PartialEq, Eq)]
pub struct Item {
    pub at: At,
    pub text: String,
}

#[derive(Default, Clone)]
pub struct Record {
    /// The product's folder; empty if nothing is installed.
    pub folder: String,
    pub version: String,
    pub machine: bool,
    /// Keys of the choices that are there.
    pub choices: Vec<String>,
    /// Whether shortcuts on the desktop and among what starts by itself are there.
    pub desktop: bool,
    pub startup: bool,
    pub folders: Vec<String>,
    pub files: Vec<String>,
    /// Files that stay once somebody changed them, with the hash that they were installed with.
    pub kept: BTreeMap<String, String>,
    pub keys: Vec<At>,
    /// Values: what was set, and what was there before.
    pub values: Vec<(At, Data, Option<Data>)>,
    pub items: Vec<Item>,
    pub services: Vec<Config>,
    pub fonts: Vec<String>,
}

/// A file's hash.
pub fn hash(path: &str) -> Result<String> {
    let file = files::File::open(path)?;
    let mut hasher = Sha256::new();
    let mut buffer = alloc::vec![0; 1 << 16];
    loop {
        match file.read(&mut buffer)? {
            0 => break,
            n => hasher.update(&buffer[..n]),
        }
    }
    Ok(hasher.finalize().iter().map(|b| format!("{b:02x}")).collect())
}

impl Record {
    pub fn is_there(&self) -> bool {
        !self.folder.is_empty()
    }

    /// Reads the record of the product in a folder; an empty one if there is none.
    pub fn read(folder: &str) -> Result<Self> {
        let path = format!("{folder}\\{NAME}");
        if folder.is_empty() || !files::exists(&path) {
            return Ok(Self::default());
        }
        let bytes = files::read(&path)?;
        let text = core::str::from_utf8(&bytes).map_err(|_| broken())?;
        let mut it = Self { folder: folder.into(), ..Self::default() };
        for line in text.strip_suffix("end\n").ok_or_else(broken)?.lines() {
            let (kind, mut f) = Fields::of(line);
            match kind {
                "version" => it.version = f.text()?,
                "machine" => it.machine = f.number()? == 1,
                "choice" => it.choices.push(f.text()?),
                "desktop" => it.desktop = f.number()? == 1,
                "startup" => it.startup = f.number()? == 1,
                "folder" => it.folders.push(f.text()?),
                "file" => it.files.push(f.text()?),
                "kept" => drop(it.kept.insert(f.text()?, f.text()?)),
                "key" => it.keys.push(f.at()?),
                "value" => it.values.push((f.at()?, f.data()?.ok_or_else(broken)?, f.data()?)),
                "item" => it.items.push(Item { at: f.at()?, text: f.text()? }),
                "service" => it.services.extend(f.config()?),
                "font" => it.fonts.push(f.text()?),
                // A newer version may have written more.
                _ => {}
            }
        }
        Ok(it)
    }

    pub fn text(&self) -> String {
        let mut out = String::new();
        let mut put = |line: Line| {
            out.push_str(&line.0);
            out.push('\n');
        };
        put(Line::new("version").text(&self.version));
        put(Line::new("machine").number(self.machine.into()));
        put(Line::new("desktop").number(self.desktop.into()));
        put(Line::new("startup").number(self.startup.into()));
        for (kind, all) in
            [("choice", &self.choices), ("folder", &self.folders), ("file", &self.files), ("font", &self.fonts)]
        {
            all.iter().for_each(|text| put(Line::new(kind).text(text)));
        }
        self.kept.iter().for_each(|(path, hash)| put(Line::new("kept").text(path).text(hash)));
        self.keys.iter().for_each(|at| put(Line::new("key").at(at)));
        for (at, data, before) in &self.values {
            put(Line::new("value").at(at).data(&Some(data.clone())).data(before));
        }
        self.items.iter().for_each(|item| put(Line::new("item").at(&item.at).text(&item.text)));
        self.services.iter().for_each(|config| put(Line::new("service").config(&Some(config.clone()))));
        out.push_str("end\n");
        out
    }

    /// Whether a file is one that stays, and was changed since it was installed.
    pub fn was_changed(&self, path: &str) -> bool {
        let installed = self.kept.iter().find(|(p, _)| same(p, path)).map(|(_, hash)| hash);
        match installed {
            Some(installed) => hash(path).map_or(true, |now| now != *installed),
            None => false,
        }
    }

    pub fn value(&self, at: &At) -> Option<&(At, Data, Option<Data>)> {
        self.values.iter().find(|(a, ..)| same_place(a, at))
    }
}

pub fn same_place(a: &At, b: &At) -> bool {
    a.machine == b.machine && a.narrow == b.narrow && same(&a.key, &b.key) && same(&a.name, &b.name)
}
