//! The record: what is installed, and what was there before. It lies in the product's folder and is all that an upgrade
//! and a removal go by.

use crate::desired::own_key;
use crate::fields::{Fields, Lines};
use crate::product::Product;
use crate::registry::{self, At, Data};
use crate::services::Config;
use crate::system::Result;
use crate::text::{cat, hex, path, t, Text};
use crate::{files, places, programs};
use alloc::vec::Vec;
use nsis_archive::seal::Hash;
use setup_rules::trust::{self, Origin, Trust};

/// Its file, and the program that removes the product.
pub const NAME: Text = t!("uninstall.dat");
pub const PROGRAM: Text = t!("uninstall.exe");

/// Something between others in a variable, such as a folder in a path.
#[derive(Clone, Copy)]
pub struct Item {
    pub at: At,
    pub text: Text,
    /// Whether it goes before the others; not remembered.
    pub front: bool,
}

#[derive(Default)]
pub struct Record {
    /// The product's folder; empty if nothing is installed.
    pub folder: Text,
    pub version: Text,
    pub machine: bool,
    /// Keys of the choices that are there.
    pub choices: Vec<Text>,
    /// Whether shortcuts on the desktop and among what starts by itself are there.
    pub desktop: bool,
    pub startup: bool,
    pub folders: Vec<Text>,
    pub files: Vec<Text>,
    /// Files that stay once somebody changed them, with the hash that they were installed with.
    pub kept: Vec<(Text, Text)>,
    pub keys: Vec<At>,
    /// Values: what was set, and what was there before.
    pub values: Vec<(At, Data, Option<Data>)>,
    pub items: Vec<Item>,
    pub services: Vec<Config>,
    pub fonts: Vec<Text>,
}

/// The value in the machine's part of the registry that says what the record of an installation for everyone is: only
/// administrators can write there, wherever the product's folder is.
pub const SEAL: Text = t!("RecordSeal");

/// The hash of bytes.
pub fn hash_of(bytes: &[u8]) -> Text {
    let mut hasher = Hash::default();
    hasher.update(bytes);
    hex(&hasher.plain())
}

/// A file's hash.
pub fn hash(path: Text) -> Result<Text> {
    let file = files::File::open(path)?;
    let mut hasher = Hash::default();
    let mut buffer = alloc::vec![0; 1 << 16];
    loop {
        match file.read(&mut buffer)? {
            0 => break,
            n => hasher.update(&buffer[..n]),
        }
    }
    Ok(hex(&hasher.plain()))
}

impl Record {
    pub fn is_there(&self) -> bool {
        !self.folder.is_empty()
    }

    /// Reads the record of the product in a folder; an empty one if there is none. An elevated run takes no more of it
    /// than what it can trust.
    pub fn read(product: &Product, folder: Text, machine: Option<bool>) -> Result<Self> {
        let file = path(folder, NAME);
        if folder.is_empty() || !files::exists(file) {
            return Ok(Self::default());
        }
        let bytes = files::read(file)?;
        let mut it = Self::parse(folder, &bytes)?;
        // Where it is known from says whose it is. A folder that nobody knows is trusted least.
        let seal = registry::text(true, own_key(product), SEAL);
        let sealed = (!seal.is_empty()).then(|| seal.is(hash_of(&bytes)));
        let sealed = if machine.is_none() { Some(false) } else { sealed };
        it.machine = machine.unwrap_or(it.machine);
        let in_programs = places::is_in_programs(folder);
        let origin = Origin { elevated: programs::is_elevated(), machine: it.machine, sealed, in_programs };
        if trust::of(origin) == Trust::Own {
            it.keep_own(product);
        }
        Ok(it)
    }

    /// Leaves out what could do harm if somebody else wrote it.
    fn keep_own(&mut self, product: &Product) {
        let folder = self.folder.units();
        let links = [0, 1, 2].map(|place| places::shortcuts(place, self.machine));
        let below = |path: Text| trust::is_below(path.units(), folder);
        let is_link =
            |path: Text| path.ends(t!(".lnk")) && links.iter().any(|l| trust::is_below(path.units(), l.units()));
        let of_ours = [
            own_key(product),
            path(t!("Software\\Microsoft\\Windows\\CurrentVersion\\Uninstall"), product.id),
            cat(&[t!("Software\\Classes\\"), product.id, t!(".")]),
        ];
        let own = |at: &At| at.machine == self.machine && of_ours.iter().any(|o| at.key.upper().begins(o.upper()));
        self.files.retain(|f| below(*f) || is_link(*f));
        self.folders.retain(|f| below(*f) || f.same(self.folder));
        self.keys.retain(own);
        self.values.retain(|(at, ..)| own(at));
        for (_, _, before) in &mut self.values {
            *before = None;
        }
        self.items.retain(|i| below(i.text) || i.text.same(self.folder));
        self.services.clear();
    }

    fn parse(folder: Text, bytes: &[u8]) -> Result<Self> {
        let mut it = Self { folder, ..Self::default() };
        let mut f = Fields::of(bytes)?;
        while let Some(kind) = f.kind() {
            match kind.among(t!("version|machine|desktop|startup|choice|folder|file|font|kept|key|value|item|service"))
            {
                0 => it.version = f.text()?,
                1 => it.machine = f.flag()?,
                2 => it.desktop = f.flag()?,
                3 => it.startup = f.flag()?,
                4 => it.choices.push(f.text()?),
                5 => it.folders.push(f.text()?),
                6 => it.files.push(f.text()?),
                7 => it.fonts.push(f.text()?),
                8 => it.kept.push((f.text()?, f.text()?)),
                9 => it.keys.push(f.at()?),
                10 => {
                    let (at, data, before) = (f.at()?, f.data()?, f.data()?);
                    if let Some(data) = data {
                        it.values.push((at, data, before));
                    }
                }
                11 => it.items.push(Item { at: f.at()?, text: f.text()?, front: false }),
                12 => it.services.extend(f.config()?),
                // A newer version may have written more.
                _ => {}
            }
        }
        Ok(it)
    }

    pub fn bytes(&self) -> Vec<u8> {
        let mut out = Lines::new();
        out.kind(t!("version")).text(self.version);
        out.kind(t!("machine")).number(self.machine.into());
        out.kind(t!("desktop")).number(self.desktop.into());
        out.kind(t!("startup")).number(self.startup.into());
        for (kind, all) in [
            (t!("choice"), &self.choices),
            (t!("folder"), &self.folders),
            (t!("file"), &self.files),
            (t!("font"), &self.fonts),
        ] {
            for text in all {
                out.kind(kind).text(*text);
            }
        }
        for (path, hash) in &self.kept {
            out.kind(t!("kept")).text(*path).text(*hash);
        }
        for at in &self.keys {
            out.kind(t!("key")).at(*at);
        }
        for (at, data, before) in &self.values {
            out.kind(t!("value")).at(*at).data(Some(*data)).data(*before);
        }
        for item in &self.items {
            out.kind(t!("item")).at(item.at).text(item.text);
        }
        for config in &self.services {
            out.kind(t!("service")).config(Some(config));
        }
        out.bytes()
    }

    /// The hash that a file which stays was installed with.
    pub fn kept(&self, path: Text) -> Option<Text> {
        self.kept.iter().find(|(p, _)| p.same(path)).map(|(_, hash)| *hash)
    }

    /// Whether a file is one that stays, and was changed since it was installed.
    pub fn was_changed(&self, path: Text) -> bool {
        match self.kept(path) {
            Some(installed) => hash(path).map_or(true, |now| !now.is(installed)),
            None => false,
        }
    }

    pub fn value(&self, at: At) -> Option<&(At, Data, Option<Data>)> {
        self.values.iter().find(|(a, ..)| a.same(at))
    }
}
