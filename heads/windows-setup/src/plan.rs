//! What an installation changes, worked out whole before anything is changed: from what is wanted and the record of what
//! is there, to a list of changes and the record of what will be there. Files are unpacked on the way, and wait.

use crate::desired::{own_key, Chosen, Desired};
use crate::files;
use crate::journal::{waiting, waiting_folder, Change, FOLDER};
use crate::package::Package;
use crate::product::Product;
use crate::progress::Progress;
use crate::record::{hash, hash_of, Item, Record, NAME, PROGRAM, SEAL};
use crate::registry::{self, At, Data};
use crate::shortcut;
use crate::system::{code, Fault, Result};
use crate::text::{cat, inner_first, join, path, sort, t, Names, Scope, Text, EMPTY};
use alloc::vec;
use alloc::vec::Vec;

pub struct Plan<'p> {
    product: &'p Product,
    chosen: &'p Chosen,
    old: &'p Record,
    /// Where files wait.
    stage: Text,
    /// Folders that were made for that.
    made: Vec<Text>,
    pub changes: Vec<Change>,
    /// What will be there.
    pub record: Record,
    /// The number of the next waiting file.
    next: u32,
    /// The first number whose folder is not made yet.
    ready: u32,
}

/// A variable's value without some items, and with others; nothing if there are none left. `hidden` stands for the
/// machine's value where a user's own would hide it.
fn with_items(now: Option<Data>, hidden: Text, without: &[Item], with: &[Item]) -> Option<Data> {
    let (kind, text) =
        now.map_or((windows_sys::Win32::System::Registry::REG_EXPAND_SZ, hidden), |d| (d.kind, d.as_text()));
    let mut items = text.split(b';');
    let gone = |i: Text| without.iter().chain(with).any(|w| w.text.same(i));
    items.retain(|i| !i.is_empty() && !gone(*i));
    for item in with {
        items.insert(if item.front { 0 } else { items.len() }, item.text);
    }
    let is_nothing = items.is_empty() || items.len() == 1 && items[0].is(hidden);
    (!is_nothing).then(|| Data::of_text(kind, join(&items, t!(";"))))
}

/// What a user's variable begins with so that it does not hide the machine's of the same name. Only of the search path
/// does the system itself put both together.
fn hidden(at: At) -> Text {
    let key = t!("SYSTEM\\CurrentControlSet\\Control\\Session Manager\\Environment");
    if at.machine || at.name.same(t!("PATH")) || registry::read(At::new(true, key, at.name)).is_none() {
        return EMPTY;
    }
    cat(&[t!("%"), at.name, t!("%")])
}

impl<'p> Plan<'p> {
    pub fn new(product: &'p Product, chosen: &'p Chosen, old: &'p Record, stage: Text, made: &[Text]) -> Self {
        let mut record = Record {
            folder: chosen.folder,
            version: product.version,
            machine: chosen.machine,
            desktop: chosen.desktop,
            startup: chosen.startup,
            ..Record::default()
        };
        for (n, choice) in product.choices.iter().enumerate() {
            if chosen.has(n as i32) {
                record.choices.push(choice.text(0));
            }
        }
        Self { product, chosen, old, stage, made: made.to_vec(), changes: Vec::new(), record, next: 0, ready: 0 }
    }

    /// What a removal changes.
    pub fn removal(product: &Product, old: &Record) -> Vec<Change> {
        let mut changes = Vec::new();
        seal(product, old.machine, None, &mut changes);
        leave(old, &mut changes, 0, None);
        changes
    }

    /// Unpacks what is wanted into the waiting folder and works out all changes.
    pub fn prepare(&mut self, package: &mut Package, progress: &mut Progress) -> Result<()> {
        let desired = Desired::new(self.product, self.chosen);
        self.folders(&desired);
        self.unpack(package, progress)?;
        self.links()?;
        let program = self.uninstaller(package)?;
        files::write(path(self.stage, t!("resume.exe")), &program)?;
        let n = self.stage_file(&program)?;
        self.put(self.chosen.path(PROGRAM), n);
        for link in &desired.links {
            let (n, to) = self.waiting()?;
            shortcut::write(to, link)?;
            self.put(link.path, n);
        }
        self.machine_changes(&desired);
        leave(self.old, &mut self.changes, self.next, Some(&self.record));
        // The record's own file comes last, and its number behind those that files of the old version wait under.
        self.next += self.old.files.len() as u32;
        let own = self.chosen.path(NAME);
        self.record.files.push(own);
        let bytes = self.record.bytes();
        let n = self.stage_file(&bytes)?;
        seal(self.product, self.chosen.machine, Some(hash_of(&bytes)), &mut self.changes);
        self.changes.push(Change::File(own, n));
        progress.step(t!("all changes are planned"));
        Ok(())
    }

    /// A new number and the waiting file's place; its folder is there.
    fn waiting(&mut self) -> Result<(u32, Text)> {
        let n = self.next;
        self.next += 1;
        if n >= self.ready {
            files::make_folder(waiting_folder(self.stage, n, false))?;
            self.ready = (n | 0xFF) + 1;
        }
        Ok((n, waiting(self.stage, n, false)))
    }

    fn stage_file(&mut self, bytes: &[u8]) -> Result<u32> {
        let (n, to) = self.waiting()?;
        files::write(to, bytes)?;
        Ok(n)
    }

    fn put(&mut self, path: Text, n: u32) {
        self.changes.push(Change::File(path, n));
        self.record.files.push(path);
    }

    /// Folders that are made, and those of an older version that stay.
    fn folders(&mut self, desired: &Desired) {
        let product = self.product;
        let mut all = Vec::new();
        // A folder with those above it.
        let mut add = |inside: Text| {
            let mut now = inside;
            while !now.is_empty() {
                all.push(self.chosen.path(now));
                now = now.parent();
            }
        };
        let mut last = EMPTY;
        let wanted = product.files.iter().filter(|f| self.chosen.has(f.choice)).map(|f| f.path);
        for path in wanted.chain(product.links().iter().map(|l| l.0)) {
            let parent = path.parent();
            // Files of one folder follow each other.
            if !parent.is(last) {
                last = parent;
                add(parent);
            }
        }
        for folder in &product.folders {
            // One whose files were all left out is left out with them.
            let (mut holds, mut wanted) = (false, false);
            for file in &product.files {
                if file.path.begins(*folder) && file.path.skip(folder.len()).begins(t!("\\")) {
                    holds = true;
                    wanted |= self.chosen.has(file.choice);
                }
            }
            if wanted || !holds {
                add(*folder);
            }
        }
        all.push(self.chosen.folder);
        all.extend_from_slice(&self.made);
        for link in &desired.links {
            all.extend(files::missing_folders(link.path.parent()));
        }
        all.retain(|f| !f.name().is(FOLDER));
        // A folder comes before what is in it.
        sort(&mut all, Text::order);
        all.dedup_by(|a, b| a.same(*b));
        let (ours, made) = (Names::new(&self.old.folders), Names::new(&self.made));
        for folder in all {
            // A folder of an older version is this one's now; one that others made is not.
            if !files::exists(folder) || made.has(folder) || ours.has(folder) {
                self.changes.push(Change::Folder(folder));
                self.record.folders.push(folder);
            }
        }
    }

    fn unpack(&mut self, package: &mut Package, progress: &mut Progress) -> Result<()> {
        let mut buffer = vec![0; 1 << 18];
        let (mut done, mut said) = (0u64, 0);
        for file in &self.product.files {
            if !self.chosen.has(file.choice) {
                continue;
            }
            let path = self.chosen.path(file.path);
            progress.go_on()?;
            // A file of somebody's own stays; what is known of the installed one is kept for the next time.
            if file.kept && files::exists(path) {
                let known = self.old.kept(path);
                if known.is_none() || self.old.was_changed(path) {
                    progress.log.line(&[path, t!(" was changed by the user and is kept")]);
                    self.record.kept.push((path, known.unwrap_or(EMPTY)));
                    self.record.files.push(path);
                    continue;
                }
            }
            let n = self.next;
            let mut hashed = EMPTY;
            {
                // SAFETY: what leaves it, the hash, is a copy that stays; a fault keeps its own texts.
                let _scope = unsafe { Scope::new() };
                let (_, to) = self.waiting()?;
                let out = files::File::create(to)?;
                let mut left = u64::from(package.file_at(file.offset)?);
                while left > 0 {
                    let count = left.min(buffer.len() as u64) as usize;
                    package.bytes(&mut buffer[..count])?;
                    out.write(&buffer[..count], path)?;
                    left -= count as u64;
                    done += count as u64;
                    let now = (done * 900 / self.product.bytes.max(1)).min(900) as u32;
                    if now != said {
                        said = now;
                        progress.progress(now, file.path);
                        progress.go_on()?;
                    }
                }
                out.set_time(file.time);
                drop(out);
                if file.kept {
                    hashed = hash(to)?.kept();
                }
                progress.step(file.path);
            }
            if file.kept {
                self.record.kept.push((path, hashed));
            }
            self.put(path, n);
        }
        Ok(())
    }

    /// One more names of files that wait already.
    fn links(&mut self) -> Result<()> {
        for (new, of) in self.product.links() {
            let of = self.chosen.path(of);
            let of = self.changes.iter().find_map(|c| match c {
                Change::File(path, n) if path.is(of) => Some(*n),
                _ => None,
            });
            if let Some(of) = of {
                let (n, to) = self.waiting()?;
                files::hard_link(to, waiting(self.stage, of, false))?;
                self.put(self.chosen.path(new), n);
            }
        }
        Ok(())
    }

    /// The program that removes the product: this head with the data block that the package brings for it.
    fn uninstaller(&self, package: &mut Package) -> Result<Vec<u8>> {
        let damaged = || Fault::new(code::DAMAGED, t!("setup-damaged"), t!("it has no uninstall program"));
        let length = package.file_at(self.product.uninstaller.ok_or_else(damaged)?)?;
        if length > 64 << 20 {
            return Err(damaged());
        }
        let mut block = vec![0; length as usize];
        package.bytes(&mut block)?;
        package.with_block(&block)
    }

    /// A value, with the keys that it needs.
    fn value(&mut self, at: At, data: Data) {
        for key in registry::missing_keys(at) {
            let key = at.of_key(key);
            if !self.record.keys.iter().any(|k| k.same(key)) {
                self.changes.push(Change::Key(key, true));
                self.record.keys.push(key);
            }
        }
        let now = registry::read(at);
        // What is there when the product is not.
        let before = self.old.value(at).map_or(now, |(_, _, before)| *before);
        self.changes.push(Change::Value(at, Some(data), now));
        self.record.values.push((at, data, before));
    }

    /// Registry, variables and services.
    fn machine_changes(&mut self, desired: &Desired) {
        let old = self.old;
        for service in &desired.services {
            let before = old.services.iter().find(|s| s.name.same(service.name)).copied();
            self.changes.push(Change::Service(Some(*service), before));
            self.record.services.push(*service);
        }
        self.record.fonts.clone_from(&desired.fonts);
        self.record.keys.extend_from_slice(&old.keys);
        for (at, data, _) in &desired.values {
            self.value(*at, *data);
        }
        self.record.items.extend_from_slice(&desired.items);
        variables(&old.items, &desired.items, &mut self.changes);
    }
}

/// Says in the machine's part of the registry what the record is; not of the record, which can't hold its own hash.
fn seal(product: &Product, machine: bool, hash: Option<Text>, changes: &mut Vec<Change>) {
    if machine {
        let at = At::new(true, own_key(product), SEAL);
        changes.push(Change::Value(at, hash.map(Data::text), registry::read(at)));
    }
}

/// Changes each variable once, with all of its items.
fn variables(old: &[Item], new: &[Item], changes: &mut Vec<Change>) {
    let mut places: Vec<At> = Vec::new();
    for item in old.iter().chain(new) {
        if !places.iter().any(|p| p.same(item.at)) {
            places.push(item.at);
        }
    }
    for at in places {
        let (mut without, mut with) = (old.to_vec(), new.to_vec());
        without.retain(|i| i.at.same(at));
        with.retain(|i| i.at.same(at));
        let now = registry::read(at);
        let then = with_items(now, hidden(at), &without, &with);
        if then != now {
            changes.push(Change::Value(at, then, now));
        }
    }
}

/// What is there of an older version (or of the one that is removed) and not wanted any more. `next` is the first number
/// that no file waits under.
fn leave(old: &Record, changes: &mut Vec<Change>, next: u32, new: Option<&Record>) {
    let nothing = Record::default();
    let is_removal = new.is_none();
    let new = new.unwrap_or(&nothing);
    let (files, folders) = (Names::new(&new.files), Names::new(&new.folders));
    let own = path(new.folder, NAME);
    for (n, file) in old.files.iter().enumerate() {
        let is_ours = !is_removal && file.same(own);
        if !is_ours && !files.has(*file) && !old.was_changed(*file) {
            changes.push(Change::NoFile(*file, next + n as u32));
        }
    }
    for service in &old.services {
        if !new.services.iter().any(|s| s.name.same(service.name)) {
            changes.push(Change::Service(None, Some(*service)));
        }
    }
    for (at, data, before) in &old.values {
        if new.value(*at).is_none() {
            // What somebody else has set since is theirs.
            let now = registry::read(*at);
            if now == Some(*data) {
                changes.push(Change::Value(*at, *before, now));
            }
        }
    }
    if is_removal {
        variables(&old.items, &[], changes);
    }
    let mut keys: Vec<At> = old.keys.clone();
    keys.reverse();
    changes.extend(keys.into_iter().map(|k| Change::Key(k, false)));
    let mut gone = old.folders.clone();
    gone.retain(|f| !folders.has(*f));
    sort(&mut gone, inner_first);
    changes.extend(gone.into_iter().map(Change::NoFolder));
}
