//! Installing, upgrading, repairing and removing: each is one way from the record of what is there to what is wanted,
//! worked out whole before anything is changed, and then made as a transaction.

use crate::files;
use crate::in_use;
use crate::journal::{self, Change, Found, FOLDER};
use crate::package::Package;
use crate::plan::Plan;
use crate::product::Product;
use crate::record::Record;
use crate::registry::{self, At, Data};
use crate::services;
use crate::system::{code, Fault, Result};
use crate::text::{cat, inner_first, number, path, sort, t, Text, EMPTY};
use crate::watch::Watch;
use crate::wishes::{own_key, Chosen};
use alloc::vec;
use alloc::vec::Vec;
use core::sync::atomic::Ordering;
use windows_sys::Win32::Graphics::Gdi::{AddFontResourceW, RemoveFontResourceW};
use windows_sys::Win32::UI::Shell::{SHChangeNotify, SHCNE_ASSOCCHANGED, SHCNF_IDLIST};
use windows_sys::Win32::UI::WindowsAndMessaging as wm;

/// What is installed of a product: for everyone, else for this person.
pub fn installed(product: &Product) -> Result<Record> {
    for machine in [true, false] {
        if let Some(folder) = registry::read(At::new(machine, own_key(product), t!("InstallFolder"))) {
            let record = Record::read(folder.as_text().without_slash())?;
            if record.is_there() {
                return Ok(record);
            }
        }
    }
    Ok(Record::default())
}

/// Compares versions by their numbers: whether the first is newer.
fn is_newer(a: Text, b: Text) -> bool {
    let (mut a, mut b) = (a, b);
    while !a.is_empty() || !b.is_empty() {
        let (of_a, of_b) = (next_number(&mut a), next_number(&mut b));
        if of_a != of_b {
            return of_a > of_b;
        }
    }
    false
}

/// The next number of a version, which is left behind; 0 if there is none.
fn next_number(version: &mut Text) -> u32 {
    let is_digit = |u: &u16| (48..58).contains(u);
    let start = version.units().iter().position(is_digit).unwrap_or(usize::MAX);
    *version = version.skip(start);
    let number = version.number();
    let end = version.units().iter().position(|u| !is_digit(u)).unwrap_or(usize::MAX);
    *version = version.skip(end);
    number
}

#[link(name = "ntdll", kind = "raw-dylib")]
extern "system" {
    fn RtlGetVersion(info: *mut windows_sys::Win32::System::SystemInformation::OSVERSIONINFOW) -> i32;
}

/// Whether the system is older than a version such as `10.0.17763`.
fn is_older(wanted: Text) -> bool {
    // SAFETY: the structure is plain data and says its own size.
    let now = unsafe {
        let mut info: windows_sys::Win32::System::SystemInformation::OSVERSIONINFOW = core::mem::zeroed();
        info.dwOSVersionInfoSize = core::mem::size_of_val(&info) as u32;
        RtlGetVersion(&mut info);
        [info.dwMajorVersion, info.dwMinorVersion, info.dwBuildNumber]
    };
    is_newer(wanted, cat(&[number(now[0]), t!("."), number(now[1]), t!("."), number(now[2])]))
}

/// What speaks against installing, before anything is touched.
pub fn check(product: &Product, chosen: &Chosen, old: &Record) -> Result<()> {
    let fault = |code, word, detail| Err(Fault::new(code, word, detail));
    if old.is_there() && !product.rule(t!("downgrade")).is(t!("allowed")) && is_newer(old.version, product.version) {
        return fault(code::NEWER, t!("setup-newer"), old.version);
    }
    let windows = product.rule(t!("smallest-windows"));
    if is_older(windows) {
        return fault(code::OLD_WINDOWS, t!("setup-windows"), windows);
    }
    if chosen.machine && !is_administrator() {
        return fault(code::ELEVATION, t!("setup-elevation"), EMPTY);
    }
    if !crate::places::is_usable(chosen.folder) {
        return fault(code::USAGE, t!("setup-folder"), chosen.folder);
    }
    has_room(product, chosen.folder)
}

/// Whether the disk that a folder is on has room for the product.
pub fn has_room(product: &Product, folder: Text) -> Result<()> {
    let wanted = product.bytes + (8 << 20);
    if files::free_space(folder) >= wanted {
        return Ok(());
    }
    let megabytes = cat(&[number(wanted.div_ceil(1_000_000) as u32), t!(" MB")]);
    Err(Fault::new(code::SPACE, t!("setup-space"), megabytes))
}

pub fn is_administrator() -> bool {
    // SAFETY: no preconditions.
    unsafe { windows_sys::Win32::UI::Shell::IsUserAnAdmin() != 0 }
}

/// Where an interrupted run's waiting files are; remembered in the registry while it runs.
fn mark(product: &Product, machine: bool) -> At {
    At::new(machine, own_key(product), t!("Unfinished"))
}

fn at_next_login(product: &Product, machine: bool) -> At {
    At::new(machine, t!("Software\\Microsoft\\Windows\\CurrentVersion\\RunOnce"), product.id)
}

fn unmark(product: &Product, machine: bool) {
    let mark = mark(product, machine);
    let _ = registry::remove(at_next_login(product, machine));
    if registry::read(mark).is_some() {
        let _ = registry::remove(mark);
        registry::remove_key(mark);
    }
}

/// Finishes or undoes what an interrupted run has left, for everyone and for this person.
pub fn resume(product: &Product, watch: &mut Watch) -> Result<()> {
    for machine in [true, false] {
        if let Some(marked) = registry::read(mark(product, machine)) {
            let all = marked.as_list();
            let stage = all.first().copied().unwrap_or(EMPTY);
            // Whoever can write there could install anyway; still nothing else than such a folder is taken.
            if stage.name().is(FOLDER) {
                resume_stage(stage, &all[1..], watch)?;
            }
            unmark(product, machine);
        }
    }
    Ok(())
}

fn resume_stage(stage: Text, made: &[Text], watch: &mut Watch) -> Result<()> {
    watch.log.line(&[t!("an interrupted run is looked at: "), stage]);
    let (found, mut empty) = journal::resume(stage, watch)?;
    if found == Found::Undone {
        empty.extend_from_slice(made);
    }
    clean(stage, &empty);
    watch.log.line(&[match found {
        Found::Finished => t!("it was finished"),
        Found::Undone => t!("it was undone"),
        Found::Nothing => t!("nothing was left of it"),
    }]);
    announce();
    Ok(())
}

/// Takes the waiting files away, and folders that have become empty.
fn clean(stage: Text, empty: &[Text]) {
    files::remove_tree(stage);
    let mut folders = empty.to_vec();
    sort(&mut folders, inner_first);
    for folder in folders {
        files::remove_folder(folder);
    }
}

/// Tells running programs what may have changed.
fn announce() {
    // SAFETY: the text stays; the call waits for each window a second at most.
    unsafe {
        SHChangeNotify(SHCNE_ASSOCCHANGED as i32, SHCNF_IDLIST, core::ptr::null(), core::ptr::null());
        let how = wm::SMTO_ABORTIFHUNG;
        let text = t!("Environment").ptr() as isize;
        wm::SendMessageTimeoutW(wm::HWND_BROADCAST, wm::WM_SETTINGCHANGE, 0, text, how, 1000, core::ptr::null_mut());
    }
}

/// Installs, upgrades or repairs. The package's files are read once.
pub fn install(
    package: &mut Package,
    product: &'static Product,
    chosen: &Chosen,
    old: &Record,
    watch: &mut Watch,
) -> Result<()> {
    check(product, chosen, old)?;
    let run = Run::new(product, chosen.machine, chosen.folder, old);
    let mut plan = Plan::new(product, chosen, old, run.stage, &run.made);
    let result = run.begin(watch).and_then(|()| {
        plan.prepare(package, watch)?;
        run.commit(&plan.changes, watch)
    });
    if let Err(fault) = result {
        run.give_up(&run.made);
        return Err(fault);
    }
    add_fonts(&plan.record.fonts);
    for service in &plan.record.services {
        if service.start == 0 {
            let started = if services::start(service.name) { t!(" is started") } else { t!(" did not start") };
            watch.log.line(&[t!("the service "), service.name, started]);
        }
    }
    let mut empty = Vec::new();
    for change in &plan.changes {
        if let Change::NoFolder(folder) = change {
            empty.push(*folder);
        }
    }
    run.end(&empty, watch);
    Ok(())
}

/// Removes what a record says.
pub fn remove(product: &'static Product, old: &Record, program: &[u8], watch: &mut Watch) -> Result<()> {
    if !old.is_there() {
        return Err(Fault::new(code::NOT_INSTALLED, t!("setup-not-installed"), EMPTY));
    }
    if old.machine && !is_administrator() {
        return Err(Fault::new(code::ELEVATION, t!("setup-elevation"), EMPTY));
    }
    let run = Run::new(product, old.machine, old.folder, old);
    let result = run.begin(watch).and_then(|()| {
        files::write(path(run.stage, t!("resume.exe")), program)?;
        run.commit(&Plan::removal(old), watch)
    });
    if let Err(fault) = result {
        run.give_up(&[]);
        return Err(fault);
    }
    run.end(&old.folders, watch);
    Ok(())
}

/// What an installation and a removal have in common.
struct Run<'r> {
    product: &'static Product,
    machine: bool,
    old: &'r Record,
    /// The folder where files wait.
    stage: Text,
    /// Folders that are made for that.
    made: Vec<Text>,
}

impl<'r> Run<'r> {
    fn new(product: &'static Product, machine: bool, folder: Text, old: &'r Record) -> Self {
        let stage = path(folder, FOLDER);
        Self { product, machine, old, stage, made: files::missing_folders(stage) }
    }

    /// Writes down that something is begun, and makes the folder where files wait.
    fn begin(&self, watch: &mut Watch) -> Result<()> {
        let mut all = vec![self.stage];
        all.extend_from_slice(&self.made);
        registry::set(mark(self.product, self.machine), Data::list(&all))?;
        watch.step(t!("it is marked as unfinished"));
        files::make_folders(self.stage)?;
        watch.step(t!("the folder is there"));
        Ok(())
    }

    /// Makes the changes, once nothing stands in their way.
    fn commit(&self, changes: &[Change], watch: &mut Watch) -> Result<()> {
        in_use::settle(changes, self.stage, watch)?;
        watch.go_on()?;
        let resume = cat(&[t!("\""), self.stage, t!("\\resume.exe\" /RESUME /S")]);
        registry::set(at_next_login(self.product, self.machine), Data::text(resume))?;
        watch.step(t!("the next login would finish it"));
        for service in &self.old.services {
            services::stop(service.name);
        }
        for font in &self.old.fonts {
            // SAFETY: the name ends with a zero.
            unsafe { RemoveFontResourceW(font.ptr()) };
        }
        journal::commit(self.stage, changes, watch)
    }

    /// Nothing was changed: what was stopped for it goes on.
    fn give_up(&self, made: &[Text]) {
        clean(self.stage, made);
        unmark(self.product, self.machine);
        for service in &self.old.services {
            if service.start == 0 {
                services::start(service.name);
            }
        }
        add_fonts(&self.old.fonts);
    }

    /// All is done; folders that may be empty go.
    fn end(&self, empty: &[Text], watch: &mut Watch) {
        clean(self.stage, empty);
        watch.step(t!("what waited is cleared away"));
        unmark(self.product, self.machine);
        announce();
    }
}

fn add_fonts(fonts: &[Text]) {
    for font in fonts {
        // SAFETY: the name ends with a zero.
        unsafe { AddFontResourceW(font.ptr()) };
    }
}

/// The exit code of something that is done.
pub fn done_code() -> u32 {
    if journal::RESTART.load(Ordering::Relaxed) { code::RESTART } else { code::DONE }
}
