//! Installing, upgrading, repairing and removing: each is one way from the record of what is there to what is wanted,
//! worked out whole before anything is changed, and then made as a transaction.

use crate::files;
use crate::journal::{self, waiting, Change, Found, FOLDER};
use crate::package::Package;
use crate::product::Product;
use crate::record::{hash, same_place, Item, Record, NAME, PROGRAM};
use crate::registry::{self, At, Data};
use crate::services::{self, Config};
use crate::shortcut::{self, Link};
use crate::system::{code, lower, same, Fault, Result};
use crate::wishes::{own_key, Chosen, Wishes};
use crate::{in_use, system};
use alloc::collections::{BTreeMap, BTreeSet};
use alloc::format;
use alloc::string::String;
use alloc::vec;
use alloc::vec::Vec;
use core::sync::atomic::Ordering;
use windows_sys::Win32::Graphics::Gdi::{AddFontResourceW, RemoveFontResourceW};
use windows_sys::Win32::UI::Shell::{SHChangeNotify, SHCNE_ASSOCCHANGED, SHCNF_IDLIST};
use windows_sys::Win32::UI::WindowsAndMessaging as wm;

/// What somebody says when files are in use.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Answer {
    Again,
    GoOn,
    Close,
    Stop,
}

/// Hears how far it is, and is asked.
pub trait Watch {
    /// So many thousandths are done; what is being done.
    fn progress(&mut self, thousandths: u32, doing: &str);
    /// Whether somebody wants to stop.
    fn cancelled(&self) -> bool;
    /// Files are in use: by these programs.
    fn in_use(&mut self, names: &[String]) -> Answer;
    /// A line for the log.
    fn log(&mut self, line: &str);
}

/// Stops the program at a step that a test names: as if the power failed there.
struct Steps {
    at: u32,
    stop: u32,
}

impl Steps {
    fn new() -> Self {
        let mut buffer = [0u16; 16];
        let name = system::wide("UPPER_SHELF_STOP_AT");
        // SAFETY: the buffer is as long as is said.
        let n = unsafe {
            windows_sys::Win32::System::Environment::GetEnvironmentVariableW(name.as_ptr(), buffer.as_mut_ptr(), 16)
        };
        let stop = if n > 0 { system::narrow(&buffer).parse().unwrap_or(0) } else { 0 };
        Self { at: 0, stop }
    }

    fn step(&mut self, watch: &mut dyn Watch, what: &str) {
        self.at += 1;
        watch.log(&format!("{:5} {what}", self.at));
        if self.at == self.stop {
            // SAFETY: ends this process at once.
            unsafe {
                windows_sys::Win32::System::Threading::TerminateProcess(
                    windows_sys::Win32::System::Threading::GetCurrentProcess(),
                    1,
                )
            };
        }
    }
}

/// What is installed of a product: for everyone, else for this person.
pub fn installed(product: &Product) -> Result<Record> {
    for machine in [true, false] {
        let at = At { machine, narrow: false, key: own_key(&product.id), name: "InstallFolder".into() };
        let Some(folder) = registry::read(&at).map(|d| registry::as_text(&d)) else { continue };
        let record = Record::read(folder.trim_end_matches('\\'))?;
        if record.is_there() {
            return Ok(record);
        }
    }
    Ok(Record::default())
}

/// Compares versions by their numbers: whether the first is newer.
pub fn is_newer(a: &str, b: &str) -> bool {
    let numbers = |v: &str| -> Vec<u64> {
        v.split(|c: char| !c.is_ascii_digit()).filter(|p| !p.is_empty()).map(|p| p.parse().unwrap_or(0)).collect()
    };
    let (mut a, mut b) = (numbers(a), numbers(b));
    let n = a.len().max(b.len());
    a.resize(n, 0);
    b.resize(n, 0);
    a > b
}

#[link(name = "ntdll", kind = "raw-dylib")]
extern "system" {
    fn RtlGetVersion(info: *mut windows_sys::Win32::System::SystemInformation::OSVERSIONINFOW) -> i32;
}

/// Whether the system is at least of a version such as `10.0.17763`.
fn is_windows(wanted: &str) -> bool {
    // SAFETY: the structure is plain data and says its own size.
    let now = unsafe {
        let mut info: windows_sys::Win32::System::SystemInformation::OSVERSIONINFOW = core::mem::zeroed();
        info.dwOSVersionInfoSize = core::mem::size_of_val(&info) as u32;
        RtlGetVersion(&mut info);
        format!("{}.{}.{}", info.dwMajorVersion, info.dwMinorVersion, info.dwBuildNumber)
    };
    !is_newer(wanted, &now)
}

/// What speaks against installing, before anything is touched.
pub fn check(product: &Product, chosen: &Chosen, old: &Record) -> Result<()> {
    if old.is_there() && product.rule("downgrade") != "allowed" && is_newer(&old.version, &product.version) {
        return Err(Fault::new(code::NEWER, "setup-newer", old.version.clone()));
    }
    let windows = product.rule("smallest-windows");
    if !windows.is_empty() && !is_windows(windows) {
        return Err(Fault::new(code::OLD_WINDOWS, "setup-windows", windows));
    }
    if chosen.machine && !is_administrator() {
        return Err(Fault::new(code::ELEVATION, "setup-elevation", ""));
    }
    if !crate::places::is_usable(&chosen.folder) {
        return Err(Fault::new(code::USAGE, "setup-folder", chosen.folder.clone()));
    }
    let wanted = product.bytes + (8 << 20);
    if let Some(free) = files::free_space(&chosen.folder) {
        if free < wanted {
            return Err(Fault::new(code::SPACE, "setup-space", format!("{} MB", wanted.div_ceil(1_000_000))));
        }
    }
    Ok(())
}

pub fn is_administrator() -> bool {
    // SAFETY: no preconditions.
    unsafe { windows_sys::Win32::UI::Shell::IsUserAnAdmin() != 0 }
}

/// Where an interrupted run's waiting files are; remembered in the registry while it runs.
fn mark(product: &Product, machine: bool) -> At {
    At { machine, narrow: false, key: own_key(&product.id), name: "Unfinished".into() }
}

fn at_next_login(product: &Product, machine: bool) -> At {
    let key = r"Software\Microsoft\Windows\CurrentVersion\RunOnce".into();
    At { machine, narrow: false, key, name: product.id.clone() }
}

fn unmark(product: &Product, machine: bool) {
    let mark = mark(product, machine);
    let _ = registry::remove(&at_next_login(product, machine));
    if registry::read(&mark).is_some() {
        let _ = registry::remove(&mark);
        registry::remove_key(&mark);
    }
}

/// Finishes or undoes what an interrupted run has left, for everyone and for this person.
pub fn resume(product: &Product, watch: &mut dyn Watch) -> Result<Found> {
    let mut all = Found::Nothing;
    for machine in [true, false] {
        if let Some(marked) = registry::read(&mark(product, machine)) {
            let mut made = registry::as_list(&marked);
            let stage = if made.is_empty() { String::new() } else { made.remove(0) };
            // Whoever can write there could install anyway; still nothing else than such a folder is taken.
            if stage.ends_with(&format!("\\{FOLDER}")) {
                let found = resume_stage(&stage, made, watch)?;
                if found != Found::Nothing {
                    all = found;
                }
            }
            unmark(product, machine);
        }
    }
    Ok(all)
}

fn resume_stage(stage: &str, made: Vec<String>, watch: &mut dyn Watch) -> Result<Found> {
    let mut steps = Steps::new();
    watch.log(&format!("an interrupted run is looked at: {stage}"));
    let (found, mut empty) = journal::resume(stage, &mut |what| {
        steps.step(watch, what);
        Ok(())
    })?;
    if found == Found::Undone {
        empty.extend(made);
    }
    clean(stage, &empty);
    watch.log(match found {
        Found::Finished => "it was finished",
        Found::Undone => "it was undone",
        Found::Nothing => "nothing was left of it",
    });
    announce();
    Ok(found)
}

/// Takes the waiting files away, and folders that have become empty.
fn clean(stage: &str, empty: &[String]) {
    files::remove_tree(stage);
    let mut folders: Vec<&String> = empty.iter().collect();
    folders.sort_by_key(|f| core::cmp::Reverse(f.len()));
    for folder in folders {
        files::remove_folder(folder);
    }
}

/// Tells running programs what may have changed.
fn announce() {
    let environment = system::wide("Environment");
    // SAFETY: the text lives until the call is over, which waits for each window a second at most.
    unsafe {
        SHChangeNotify(SHCNE_ASSOCCHANGED as i32, SHCNF_IDLIST, core::ptr::null(), core::ptr::null());
        let how = wm::SMTO_ABORTIFHUNG;
        let text = environment.as_ptr() as isize;
        wm::SendMessageTimeoutW(wm::HWND_BROADCAST, wm::WM_SETTINGCHANGE, 0, text, how, 1000, core::ptr::null_mut());
    }
}

/// Changes being worked out.
struct Work {
    changes: Vec<Change>,
    /// The number of the next waiting file.
    next: u32,
}

impl Work {
    fn number(&mut self) -> u32 {
        self.next += 1;
        self.next - 1
    }

    /// A value, with the keys that it needs. `before` is what is there when the product is not.
    fn value(&mut self, record: &mut Record, at: At, data: Data, old: &Record) {
        for key in registry::missing_keys(&at) {
            let key = At { key, name: String::new(), ..at.clone() };
            if !record.keys.iter().any(|k| same_place(k, &key)) {
                self.changes.push(Change::Key(key.clone(), true));
                record.keys.push(key);
            }
        }
        let now = registry::read(&at);
        let before = match old.value(&at) {
            Some((_, _, before)) => before.clone(),
            None => now.clone(),
        };
        self.changes.push(Change::Value(at.clone(), Some(data.clone()), now));
        record.values.push((at, data, before));
    }
}

/// A variable's value without some items, and with others.
fn with_items(now: &Option<Data>, without: &[&Item], with: &[&(Item, bool)]) -> Option<Data> {
    let text = now.as_ref().map(registry::as_text).unwrap_or_default();
    let mut items: Vec<&str> = text.split(';').collect();
    items.retain(|i| !i.is_empty() || without.is_empty() && with.is_empty());
    items.retain(|i| !without.iter().any(|w| same(&w.text, i)) && !with.iter().any(|(w, _)| same(&w.text, i)));
    for (item, front) in with {
        items.insert(if *front { 0 } else { items.len() }, &item.text);
    }
    if items.is_empty() {
        return None;
    }
    let kind = now.as_ref().map_or(windows_sys::Win32::System::Registry::REG_EXPAND_SZ, |d| d.0);
    Some((kind, registry::text(&items.join(";")).1))
}

/// Installs, upgrades or repairs. The package's files are read once.
pub fn install(
    package: &mut Package,
    product: &Product,
    chosen: &Chosen,
    old: &Record,
    watch: &mut dyn Watch,
) -> Result<()> {
    check(product, chosen, old)?;
    let mut steps = Steps::new();
    let stage = format!("{}\\{FOLDER}", chosen.folder);
    let made = files::missing_folders(&stage);
    let result = (|| {
        let machine = chosen.machine;
        begin(product, machine, &stage, &made, &mut steps, watch)?;
        let (mut work, record) = prepare(package, product, chosen, old, &stage, &made, &mut steps, watch)?;
        in_use::settle(&work.changes, &stage, watch)?;
        if watch.cancelled() {
            return Err(Fault::new(code::CANCELLED, "", ""));
        }
        let resume = format!("\"{stage}\\resume.exe\" /RESUME /S");
        registry::set(&at_next_login(product, machine), &registry::text(&resume))?;
        steps.step(watch, "the next login would finish it");
        old.services.iter().for_each(|s| services::stop(&s.name));
        remove_fonts(old);
        commit(&stage, &mut work, &mut steps, watch)?;
        Ok((work, record))
    })();
    let (work, record) = match result {
        Ok(done) => done,
        Err(fault) => {
            clean(&stage, &made);
            unmark(product, chosen.machine);
            start_again(old);
            return Err(fault);
        }
    };
    add_fonts(&record.fonts);
    for service in record.services.iter().filter(|s| s.start == 0) {
        let started = services::start(&service.name);
        watch.log(&format!("the service {} {}", service.name, if started { "is started" } else { "did not start" }));
    }
    let empty: Vec<String> =
        work.changes.iter().filter_map(|c| if let Change::NoFolder(f) = c { Some(f.clone()) } else { None }).collect();
    clean(&stage, &empty);
    steps.step(watch, "what waited is cleared away");
    unmark(product, chosen.machine);
    announce();
    Ok(())
}

/// Writes down that something is begun, and makes the folder where files wait.
fn begin(
    product: &Product,
    machine: bool,
    stage: &str,
    made: &[String],
    steps: &mut Steps,
    watch: &mut dyn Watch,
) -> Result<()> {
    let mut all = vec![String::from(stage)];
    all.extend(made.iter().cloned());
    registry::set(&mark(product, machine), &registry::list(&all))?;
    steps.step(watch, "it is marked as unfinished");
    files::make_folders(stage)?;
    steps.step(watch, "the folder is there");
    Ok(())
}

fn commit(stage: &str, work: &mut Work, steps: &mut Steps, watch: &mut dyn Watch) -> Result<()> {
    let (mut done, all) = (0, work.changes.len() as u32 + 2);
    journal::commit(stage, &work.changes, &mut |what| {
        steps.step(watch, what);
        done += 1;
        watch.progress(900 + done.min(all) * 100 / all, "");
        if watch.cancelled() { Err(Fault::new(code::CANCELLED, "", "")) } else { Ok(()) }
    })
}

fn add_fonts(fonts: &[String]) {
    for font in fonts {
        // SAFETY: the name ends with a zero.
        unsafe { AddFontResourceW(system::wide(font).as_ptr()) };
    }
}

fn remove_fonts(record: &Record) {
    for font in &record.fonts {
        // SAFETY: the name ends with a zero.
        unsafe { RemoveFontResourceW(system::wide(font).as_ptr()) };
    }
}

/// After nothing was changed, what was stopped for it goes on.
fn start_again(old: &Record) {
    for service in old.services.iter().filter(|s| s.start == 0) {
        services::start(&service.name);
    }
    add_fonts(&old.fonts);
}

/// Unpacks what is wanted into the waiting folder and works out all changes. `made` are the folders that were made for
/// that.
#[allow(clippy::too_many_arguments)]
fn prepare(
    package: &mut Package,
    product: &Product,
    chosen: &Chosen,
    old: &Record,
    stage: &str,
    made: &[String],
    steps: &mut Steps,
    watch: &mut dyn Watch,
) -> Result<(Work, Record)> {
    let wishes = Wishes::new(product, chosen);
    let mut work = Work { changes: Vec::new(), next: 0 };
    let mut record = Record {
        folder: chosen.folder.clone(),
        version: product.version.clone(),
        machine: chosen.machine,
        desktop: chosen.desktop,
        startup: chosen.startup,
        ..Record::default()
    };
    let is_chosen = |choice: Option<usize>| choice.is_none_or(|c| chosen.choices.get(c) == Some(&true));
    record.choices =
        product.choices.iter().enumerate().filter(|(n, _)| is_chosen(Some(*n))).map(|(_, c)| c.key.clone()).collect();

    // Folders: each with those above it.
    let mut folders: BTreeSet<String> = BTreeSet::new();
    let mut with_parents = |path: &str| {
        let mut now = path;
        loop {
            if !now.is_empty() {
                folders.insert(chosen.path(now));
            }
            match now.rsplit_once('\\') {
                Some((parent, _)) => now = parent,
                None => break,
            }
        }
    };
    // A folder whose files were all left out is left out with them.
    for folder in &product.folders {
        let inside = format!("{folder}\\");
        let mut of_folder = product.files.iter().filter(|f| f.path.starts_with(&inside)).peekable();
        if of_folder.peek().is_none() || of_folder.any(|f| is_chosen(f.choice)) {
            with_parents(folder);
        }
    }
    let paths = product.files.iter().filter(|f| is_chosen(f.choice)).map(|f| &f.path);
    let links = product.links.iter().map(|(path, _)| path);
    paths.chain(links).filter_map(|p| p.rsplit_once('\\')).for_each(|(parent, _)| with_parents(parent));
    let above = made.iter().filter(|f| !f.ends_with(FOLDER)).cloned();
    let mut all: Vec<String> = above.chain(folders).collect();
    for link in &wishes.links {
        let parent = link.path.rsplit_once('\\').map_or("", |(p, _)| p);
        all.extend(files::missing_folders(parent));
    }
    for folder in all {
        // A folder of an older version is this one's now; one that others made is not.
        let was_ours = old.folders.iter().any(|f| same(f, &folder));
        let is_new = !files::exists(&folder) || made.iter().any(|m| same(m, &folder));
        if is_new || was_ours {
            work.changes.push(Change::Folder(folder.clone()));
            record.folders.push(folder);
        }
    }

    unpack(package, product, chosen, old, stage, &mut work, &mut record, steps, watch)?;
    let own = format!("{stage}\\resume.exe");
    let program = uninstaller(package, product)?;
    files::write(&own, &program)?;
    let n = work.number();
    stage_file(stage, n, &program)?;
    put(&mut work, &mut record, chosen.path(PROGRAM), n);
    for link in &wishes.links {
        let n = work.number();
        files::make_folder(&format!("{stage}\\n{}", n >> 8))?;
        let written = Link {
            target: &link.target,
            arguments: &link.arguments,
            folder: &link.folder,
            description: &link.description,
            model_id: &product.id,
        };
        shortcut::write(&waiting(stage, n, false), &written)?;
        put(&mut work, &mut record, link.path.clone(), n);
    }

    machine_changes(&wishes, old, &mut work, &mut record);
    leave(old, &mut work, Some(&mut record));
    let n = work.number();
    let path = chosen.path(NAME);
    record.files.push(path.clone());
    stage_file(stage, n, record.text().as_bytes())?;
    work.changes.push(Change::File(path, n));
    steps.step(watch, "all changes are worked out");
    Ok((work, record))
}

fn put(work: &mut Work, record: &mut Record, path: String, n: u32) {
    work.changes.push(Change::File(path.clone(), n));
    record.files.push(path);
}

fn stage_file(stage: &str, n: u32, bytes: &[u8]) -> Result<()> {
    files::make_folder(&format!("{stage}\\n{}", n >> 8))?;
    files::write(&waiting(stage, n, false), bytes)
}

/// The program that removes the product: this head with the data block that the package brings for it.
fn uninstaller(package: &mut Package, product: &Product) -> Result<Vec<u8>> {
    let damaged = || Fault::new(code::DAMAGED, "setup-damaged", "it has nothing to remove it with");
    let length = package.file_at(product.uninstaller.ok_or_else(damaged)?)?;
    if length > 64 << 20 {
        return Err(damaged());
    }
    let mut block = vec![0; length as usize];
    package.bytes(&mut block)?;
    package.with_block(&block)
}

#[allow(clippy::too_many_arguments)]
fn unpack(
    package: &mut Package,
    product: &Product,
    chosen: &Chosen,
    old: &Record,
    stage: &str,
    work: &mut Work,
    record: &mut Record,
    steps: &mut Steps,
    watch: &mut dyn Watch,
) -> Result<()> {
    let mut numbers: BTreeMap<&str, u32> = BTreeMap::new();
    let mut buffer = vec![0; 1 << 18];
    let (mut done, mut said) = (0u64, 0);
    for file in &product.files {
        let wanted = file.choice.is_none_or(|c| chosen.choices.get(c) == Some(&true));
        let path = chosen.path(&file.path);
        if !wanted {
            continue;
        }
        if watch.cancelled() {
            return Err(Fault::new(code::CANCELLED, "", ""));
        }
        // A file of somebody's own stays; what is known of the installed one is kept for the next time.
        if file.kept && files::exists(&path) {
            let known = old.kept.iter().find(|(p, _)| same(p, &path));
            if known.is_none() || old.was_changed(&path) {
                watch.log(&format!("{path} was changed by somebody, and stays"));
                let hash = known.map_or_else(String::new, |(_, h)| h.clone());
                record.kept.insert(path.clone(), hash);
                record.files.push(path);
                continue;
            }
        }
        let mut left = u64::from(package.file_at(file.offset)?);
        let n = work.number();
        let to = waiting(stage, n, false);
        if n & 0xFF == 0 {
            files::make_folder(&format!("{stage}\\n{}", n >> 8))?;
        }
        let out = files::File::create(&to)?;
        while left > 0 {
            let count = left.min(buffer.len() as u64) as usize;
            package.bytes(&mut buffer[..count])?;
            out.write(&buffer[..count], &path)?;
            left -= count as u64;
            done += count as u64;
            let now = (done * 900 / product.bytes.max(1)) as u32;
            if now != said {
                said = now;
                watch.progress(now.min(900), &file.path);
                if watch.cancelled() {
                    return Err(Fault::new(code::CANCELLED, "", ""));
                }
            }
        }
        out.set_time(file.time.0, file.time.1);
        drop(out);
        if file.kept {
            record.kept.insert(path.clone(), hash(&to)?);
        }
        numbers.insert(&file.path, n);
        put(work, record, path, n);
        steps.step(watch, &file.path);
    }
    for (path, of) in &product.links {
        let Some(of) = numbers.get(of.as_str()) else { continue };
        let n = work.number();
        files::make_folder(&format!("{stage}\\n{}", n >> 8))?;
        files::hard_link(&waiting(stage, n, false), &waiting(stage, *of, false))?;
        put(work, record, chosen.path(path), n);
    }
    Ok(())
}

/// Registry, variables and services.
fn machine_changes(wishes: &Wishes, old: &Record, work: &mut Work, record: &mut Record) {
    for service in &wishes.services {
        let before = old.services.iter().find(|s| same(&s.name, &service.name)).cloned();
        work.changes.push(Change::Service(Some(service.clone()), before));
        record.services.push(service.clone());
    }
    record.fonts.clone_from(&wishes.fonts);
    for key in &old.keys {
        record.keys.push(key.clone());
    }
    for (at, data) in &wishes.values {
        work.value(record, at.clone(), data.clone(), old);
    }
    // Each variable once, with all of its items.
    let mut places: Vec<&At> = Vec::new();
    let of_old = old.items.iter().map(|i| &i.at);
    for at in of_old.chain(wishes.items.iter().map(|(i, _)| &i.at)) {
        if !places.iter().any(|p| same_place(p, at)) {
            places.push(at);
        }
    }
    for at in places {
        let without: Vec<&Item> = old.items.iter().filter(|i| same_place(&i.at, at)).collect();
        let with: Vec<&(Item, bool)> = wishes.items.iter().filter(|(i, _)| same_place(&i.at, at)).collect();
        let now = registry::read(at);
        let new = with_items(&now, &without, &with);
        if new != now {
            work.changes.push(Change::Value(at.clone(), new, now));
        }
        record.items.extend(with.iter().map(|(i, _)| i.clone()));
    }
}

/// What is there of an older version (or of the one that is removed) and not wanted any more.
fn leave(old: &Record, work: &mut Work, mut new: Option<&mut Record>) {
    let lowered = |all: &[String]| -> BTreeSet<String> { all.iter().map(|f| lower(f)).collect() };
    let wanted = new.as_ref().map(|r| lowered(&r.files)).unwrap_or_default();
    for file in old.files.iter().filter(|f| !wanted.contains(&lower(f))) {
        let own_record = file.ends_with(NAME) && new.as_ref().is_some_and(|r| same(file, &format!("{}\\{NAME}", r.folder)));
        if !own_record && !old.was_changed(file) {
            let n = work.number();
            work.changes.push(Change::NoFile(file.clone(), n));
        }
    }
    let services: &[Config] = new.as_ref().map_or(&[], |r| &r.services);
    let gone: Vec<&Config> = old.services.iter().filter(|s| !services.iter().any(|n| same(&n.name, &s.name))).collect();
    work.changes.extend(gone.into_iter().map(|s| Change::Service(None, Some(s.clone()))));
    for (at, data, before) in &old.values {
        if new.as_ref().is_some_and(|r| r.value(at).is_some()) {
            continue;
        }
        // What somebody else has set since is theirs.
        let now = registry::read(at);
        if now.as_ref() == Some(data) {
            work.changes.push(Change::Value(at.clone(), before.clone(), now));
        }
    }
    if new.is_none() {
        for item in &old.items {
            let now = registry::read(&item.at);
            let others: Vec<&Item> = old.items.iter().filter(|i| same_place(&i.at, &item.at)).collect();
            let rest = with_items(&now, &others, &[]);
            let done = work.changes.iter().any(|c| matches!(c, Change::Value(at, ..) if same_place(at, &item.at)));
            if rest != now && !done {
                work.changes.push(Change::Value(item.at.clone(), rest, now));
            }
        }
    }
    let mut keys: Vec<&At> = old.keys.iter().collect();
    keys.sort_by_key(|k| core::cmp::Reverse(k.key.len()));
    work.changes.extend(keys.into_iter().map(|k| Change::Key(k.clone(), false)));
    let wanted = new.as_mut().map(|r| lowered(&r.folders)).unwrap_or_default();
    let mut folders: Vec<&String> = old.folders.iter().filter(|f| !wanted.contains(&lower(f))).collect();
    folders.sort_by_key(|f| core::cmp::Reverse(f.len()));
    work.changes.extend(folders.into_iter().map(|f| Change::NoFolder(f.clone())));
}

/// Removes what a record says.
pub fn remove(product: &Product, old: &Record, program: &[u8], watch: &mut dyn Watch) -> Result<()> {
    if !old.is_there() {
        return Err(Fault::new(code::NOT_INSTALLED, "setup-not-installed", ""));
    }
    if old.machine && !is_administrator() {
        return Err(Fault::new(code::ELEVATION, "setup-elevation", ""));
    }
    let mut steps = Steps::new();
    let stage = format!("{}\\{FOLDER}", old.folder);
    let made = files::missing_folders(&stage);
    let mut work = Work { changes: Vec::new(), next: 0 };
    let result = (|| {
        begin(product, old.machine, &stage, &made, &mut steps, watch)?;
        files::write(&format!("{stage}\\resume.exe"), program)?;
        leave(old, &mut work, None);
        in_use::settle(&work.changes, &stage, watch)?;
        let resume = format!("\"{stage}\\resume.exe\" /RESUME /S");
        registry::set(&at_next_login(product, old.machine), &registry::text(&resume))?;
        steps.step(watch, "the next login would finish it");
        old.services.iter().for_each(|s| services::stop(&s.name));
        remove_fonts(old);
        commit(&stage, &mut work, &mut steps, watch)
    })();
    if let Err(fault) = result {
        clean(&stage, &[]);
        unmark(product, old.machine);
        start_again(old);
        return Err(fault);
    }
    clean(&stage, &old.folders);
    steps.step(watch, "what waited is cleared away");
    unmark(product, old.machine);
    announce();
    Ok(())
}

/// The exit code of something that is done.
pub fn done_code() -> u32 {
    if journal::RESTART.load(Ordering::Relaxed) { code::RESTART } else { code::DONE }
}
