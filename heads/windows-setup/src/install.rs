//! Installing, upgrading, repairing and removing: each is one way from the record of what is there to what is wanted,
//! worked out whole before anything is changed, and then made as a transaction.

use crate::desired::{own_key, Chosen};
use crate::files;
use crate::in_use;
use crate::journal::{self, Change, Found, FOLDER};
use crate::package::Package;
use crate::plan::Plan;
use crate::product::Product;
use crate::programs::{self, is_administrator};
use crate::progress::Progress;
use crate::record::Record;
use crate::registry::{self, At, Data};
use crate::services;
use crate::system::{code, Fault, Result};
use crate::text::{cat, inner_first, number, path, sort, t, Text, EMPTY};
use crate::twin::{Kept, Twin};
use alloc::vec;
use alloc::vec::Vec;
use core::sync::atomic::Ordering;
use setup_rules::trust::{self, Origin, Trust};
use windows_sys::Win32::Graphics::Gdi::{AddFontResourceW, RemoveFontResourceW};
use windows_sys::Win32::UI::Shell::{SHChangeNotify, SHCNE_ASSOCCHANGED, SHCNF_IDLIST};
use windows_sys::Win32::UI::WindowsAndMessaging as wm;

/// What is installed of a product: for everyone, else for this user.
pub fn installed(product: &Product) -> Result<Record> {
    for machine in [true, false] {
        if let Some(folder) = folder_of(product, machine) {
            let record = Record::read(product, folder, Some(machine))?;
            if record.is_there() {
                return Ok(record);
            }
        }
    }
    Ok(Record::default())
}

/// The folder that a product is in for everyone, or for this user.
#[inline(never)]
pub fn folder_of(product: &Product, machine: bool) -> Option<Text> {
    let folder = registry::text(machine, own_key(product), t!("InstallFolder")).without_slash();
    (!folder.is_empty()).then_some(folder)
}

/// What is installed in a folder.
pub fn installed_in(product: &Product, folder: Text) -> Result<Record> {
    let machine = [true, false].into_iter().find(|m| folder_of(product, *m).is_some_and(|f| f.same(folder)));
    Record::read(product, folder, machine)
}

/// Whether the first version is newer.
pub fn is_newer(a: Text, b: Text) -> bool {
    setup_rules::version::is_newer(a.units(), b.units())
}

#[cfg_attr(windows, link(name = "ntdll", kind = "raw-dylib"))]
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
pub fn check(product: &Product, chosen: &Chosen, old: &Record, twin: Option<&Twin>) -> Result<()> {
    let fault = |code, word, detail| Err(Fault::new(code, word, detail));
    let there = if old.is_there() { old.version } else { twin.map_or(EMPTY, |t| t.version) };
    if !there.is_empty() && !product.rule(t!("downgrade")).is(t!("allowed")) && is_newer(there, product.version) {
        return fault(code::NEWER, t!("setup-newer"), there);
    }
    // Each would leave the other's entry and files: one replaces the other only where it may do so whole.
    if twin.is_some_and(|t| t.machine != chosen.machine) {
        return fault(code::OTHER_SCOPE, t!("setup-other-scope"), EMPTY);
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

/// Where an interrupted run's waiting files are; remembered in the registry while it runs.
fn mark(product: &Product, machine: bool) -> At {
    At::new(machine, own_key(product), t!("Unfinished"))
}

fn at_next_login(product: &Product, machine: bool) -> At {
    At::new(machine, t!("Software\\Microsoft\\Windows\\CurrentVersion\\RunOnce"), product.id)
}

/// What says which journal is the one that was written.
fn seal(product: &Product) -> At {
    At::new(true, own_key(product), t!("UnfinishedSeal"))
}

fn unmark(product: &Product, machine: bool) {
    let mark = mark(product, machine);
    let next = at_next_login(product, machine);
    // The program that would have gone on is in a folder of its own.
    if let Some(program) = registry::read(next).and_then(|line| line.as_text().split(b'"').get(1).copied()) {
        if files::is_fresh(program.parent()) {
            files::remove_tree(program.parent());
        }
    }
    let _ = registry::remove(next);
    if machine {
        let _ = registry::remove(seal(product));
    }
    if registry::read(mark).is_some() {
        let _ = registry::remove(mark);
        registry::remove_key(mark);
    }
}

/// Finishes or undoes what an interrupted run has left, for everyone and for this user.
pub fn resume(product: &Product, progress: &mut Progress) -> Result<()> {
    for machine in [true, false] {
        if let Some(marked) = registry::read(mark(product, machine)) {
            let elevated = programs::is_elevated();
            if elevated && !machine {
                // Any program of this user could have written it; a run without these rights follows it.
                progress.log.line(&[t!("left to the user who began it")]);
                continue;
            }
            let all = marked.as_list();
            let stage = all.first().copied().unwrap_or(EMPTY);
            if stage.name().is(FOLDER) {
                let sealed = if machine { journal::is_sealed(stage, registry::read(seal(product))) } else { None };
                let in_programs = crate::places::is_in_programs(stage);
                if trust::of(Origin { elevated, machine, sealed, in_programs }) == Trust::Whole {
                    resume_stage(stage, &all[1..], progress)?;
                } else {
                    progress.log.line(&[stage, t!(" was changed by another program, and is ignored")]);
                    files::remove_tree(stage);
                }
            }
            unmark(product, machine);
        }
    }
    Ok(())
}

fn resume_stage(stage: Text, made: &[Text], progress: &mut Progress) -> Result<()> {
    progress.log.line(&[t!("an interrupted run is looked at: "), stage]);
    let (found, mut empty) = journal::resume(stage, progress)?;
    if found == Found::Undone {
        empty.extend_from_slice(made);
    }
    clean(stage, &empty);
    // A removal that was over but for this.
    files::remove_folder(stage.parent());
    progress.log.line(&[match found {
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
    twin: Option<&Twin>,
    progress: &mut Progress,
) -> Result<()> {
    check(product, chosen, old, twin)?;
    if let Some(twin) = twin.filter(|_| !old.is_there()) {
        replace(product, twin, progress)?;
    }
    let mut run = Run::new(product, chosen.machine, chosen.folder, old);
    let mut plan = Plan::new(product, chosen, old, run.stage, &run.made);
    let result = run.begin(progress).and_then(|()| {
        plan.prepare(package, progress)?;
        run.commit(&plan.changes, progress)
    });
    if let Err(fault) = result {
        run.give_up(&run.made.clone());
        return Err(fault);
    }
    add_fonts(&plan.record.fonts);
    tell_of_fonts(&[&old.fonts, &plan.record.fonts]);
    for service in &plan.record.services {
        if service.start == 0 || run.stopped.iter().any(|s| s.same(service.name)) {
            let started = if services::start(service.name) { t!(" is started") } else { t!(" did not start") };
            progress.log.line(&[t!("the service "), service.name, started]);
        }
    }
    let mut empty = Vec::new();
    for change in &plan.changes {
        if let Change::NoFolder(folder) = change {
            empty.push(*folder);
        }
    }
    run.end(&empty, progress);
    Ok(())
}

/// Has the same product go that Windows Installer has put there; what people have changed stays.
fn replace(product: &Product, twin: &Twin, progress: &mut Progress) -> Result<()> {
    progress.log.line(&[t!("replaced: "), twin.version]);
    let aside = files::fresh_folder(is_administrator())?;
    let result = Kept::put_aside(product, twin.folder, aside).and_then(|kept| {
        twin.remove()?;
        kept.bring_back()
    });
    files::remove_tree(aside);
    result
}

/// Removes what a record says.
pub fn remove(product: &'static Product, old: &Record, program: &[u8], progress: &mut Progress) -> Result<()> {
    if !old.is_there() {
        return Err(Fault::new(code::NOT_INSTALLED, t!("setup-not-installed"), EMPTY));
    }
    if old.machine && !is_administrator() {
        return Err(Fault::new(code::ELEVATION, t!("setup-elevation"), EMPTY));
    }
    let mut run = Run::new(product, old.machine, old.folder, old);
    let result = run.begin(progress).and_then(|()| {
        files::write(path(run.stage, t!("resume.exe")), program)?;
        run.commit(&Plan::removal(product, old), progress)
    });
    if let Err(fault) = result {
        run.give_up(&[]);
        return Err(fault);
    }
    tell_of_fonts(&[&old.fonts]);
    run.end(&old.folders, progress);
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
    /// Services that were running.
    stopped: Vec<Text>,
}

impl<'r> Run<'r> {
    fn new(product: &'static Product, machine: bool, folder: Text, old: &'r Record) -> Self {
        let stage = path(folder, FOLDER);
        Self { product, machine, old, stage, made: files::missing_folders(stage), stopped: Vec::new() }
    }

    /// Writes down that something is begun, and makes the folder where files wait.
    fn begin(&self, progress: &mut Progress) -> Result<()> {
        let mut all = vec![self.stage];
        all.extend_from_slice(&self.made);
        registry::set(mark(self.product, self.machine), Data::list(&all))?;
        progress.step(t!("it is marked as unfinished"));
        files::make_folders(self.stage)?;
        progress.step(t!("the folder is there"));
        Ok(())
    }

    /// Makes the changes, once nothing stands in their way.
    fn commit(&mut self, changes: &[Change], progress: &mut Progress) -> Result<()> {
        // The product's own services use its files: they stop before anybody is asked to close something.
        for service in &self.old.services {
            if services::stop(service.name) {
                progress.log.line(&[t!("the service "), service.name, t!(" is stopped")]);
                self.stopped.push(service.name);
            }
        }
        in_use::settle(changes, self.stage, progress)?;
        progress.go_on()?;
        let mut place = self.stage;
        if self.machine {
            // The next login runs it with an administrator's rights: nobody else may change it.
            place = files::fresh_folder(true)?;
            files::copy(path(self.stage, t!("resume.exe")), path(place, t!("resume.exe")))?;
        }
        let resume = cat(&[t!("\""), place, t!("\\resume.exe\" /RESUME /S")]);
        registry::set(at_next_login(self.product, self.machine), Data::text(resume))?;
        progress.step(t!("the next sign-in would finish it"));
        for font in &self.old.fonts {
            // SAFETY: the name ends with a zero.
            unsafe { RemoveFontResourceW(font.ptr()) };
        }
        journal::commit(self.stage, changes, self.machine.then(|| seal(self.product)), progress)
    }

    /// Nothing was changed: what was stopped for it goes on.
    fn give_up(&self, made: &[Text]) {
        clean(self.stage, made);
        unmark(self.product, self.machine);
        for service in &self.stopped {
            services::start(*service);
        }
        add_fonts(&self.old.fonts);
    }

    /// All is done; folders that may be empty go.
    fn end(&self, empty: &[Text], progress: &mut Progress) {
        clean(self.stage, empty);
        progress.step(t!("pending changes are cleared"));
        unmark(self.product, self.machine);
        announce();
    }
}

/// Tells running programs that there are other fonts.
fn tell_of_fonts(fonts: &[&Vec<Text>]) {
    if fonts.iter().any(|f| !f.is_empty()) {
        // SAFETY: the call waits for each window a second at most.
        unsafe {
            let how = wm::SMTO_ABORTIFHUNG;
            wm::SendMessageTimeoutW(wm::HWND_BROADCAST, wm::WM_FONTCHANGE, 0, 0, how, 1000, core::ptr::null_mut());
        }
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
    if journal::RESTART.load(Ordering::Relaxed) {
        code::RESTART
    } else {
        code::DONE
    }
}
