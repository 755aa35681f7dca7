//! The wizard: which page comes when, what its controls do, and the thread that works behind the progress.

use crate::install::{self, Answer, Watch};
use crate::log::Log;
use crate::package::Package;
use crate::product::{Page, Product};
use crate::record::Record;
use crate::settings::Settings;
use crate::system::{code, wide, Fault, Result};
use crate::window::{self, kind, Fill, Look, FIRST_ID, SECOND};
use crate::wishes::Chosen;
use crate::{files, programs};
use alloc::boxed::Box;
use alloc::format;
use alloc::string::String;
use alloc::vec::Vec;
use core::ffi::c_void;
use core::ptr::{null, null_mut};
use core::sync::atomic::{AtomicBool, AtomicIsize, AtomicU32, Ordering};
use windows_sys::Win32::Foundation::{HANDLE, HWND, LPARAM, LRESULT, WPARAM};
use windows_sys::Win32::Graphics::Gdi as gdi;
use windows_sys::Win32::System::LibraryLoader::GetModuleHandleW;
use windows_sys::Win32::System::Threading as th;
use windows_sys::Win32::UI::Input::KeyboardAndMouse::EnableWindow;
use windows_sys::Win32::UI::WindowsAndMessaging as wm;

/// What buttons do, by the numbers of the notes.
mod action {
    pub const GO: i32 = 1;
    pub const INSTALL: i32 = 2;
    pub const REPAIR: i32 = 3;
    pub const REMOVE: i32 = 4;
    pub const ASK_CANCEL: i32 = 5;
    pub const STOP: i32 = 6;
    pub const STAY: i32 = 7;
    pub const LOOK_AGAIN: i32 = 8;
    pub const GO_ON: i32 = 9;
    pub const CLOSE_PROGRAMS: i32 = 10;
    pub const FINISH: i32 = 11;
    pub const CLOSE: i32 = 12;
}

const PROGRESS: u32 = wm::WM_APP + 1;
const IN_USE: u32 = wm::WM_APP + 2;
const ENDED: u32 = wm::WM_APP + 3;
const DM_GETDEFID: u32 = wm::WM_USER;
const HAS_DEFAULT: isize = 0x534B;

/// What the working thread and the windows share.
static CANCEL: AtomicBool = AtomicBool::new(false);
static ANSWER: AtomicU32 = AtomicU32::new(0);
static WINDOW: AtomicIsize = AtomicIsize::new(0);
static ANSWERED: AtomicIsize = AtomicIsize::new(0);

#[derive(Clone, Copy, PartialEq, Eq)]
enum Task {
    Install,
    Remove,
}

/// What the thread works with; it is nobody else's while it runs.
struct Job {
    package: Package,
    product: &'static Product,
    chosen: Chosen,
    old: Record,
    log: Log,
    task: Task,
}

struct Ui {
    product: &'static Product,
    settings: Settings,
    language: usize,
    chosen: Chosen,
    old: Record,
    accepted: bool,
    start_now: bool,
    page: usize,
    /// The page that asks whether to stop, while it is there.
    asking: HWND,
    window: HWND,
    look: Look,
    programs: Vec<String>,
    /// What the last pages say in place of their own words: key of the word, and the sentence.
    said: Vec<(&'static str, String)>,
    job: Option<Box<Job>>,
    working: bool,
    log_path: String,
    outcome: u32,
}

/// The windows' state: made before the first window, and only used by the thread of the windows.
static mut UI: *mut Ui = null_mut();

fn ui() -> &'static mut Ui {
    // SAFETY: see UI; it is set before any window is there, and never freed.
    unsafe { &mut *UI }
}

impl Ui {
    fn page(&self) -> &'static Page {
        &self.product.pages[self.page]
    }

    fn asking_page(&self) -> Option<&'static Page> {
        self.product.pages.iter().find(|p| p.name == "AskCancel")
    }

    fn show(&mut self, name: &str) {
        if let Some(n) = self.product.pages.iter().position(|p| p.name == name) {
            self.page = n;
            window::fill(self.window, &self.product.pages[n], &self.look, self);
        }
    }

    /// Takes over what was typed and ticked on the page.
    fn take(&mut self) {
        let page = self.page();
        for (n, control) in page.controls.iter().enumerate() {
            // SAFETY: the window is alive.
            let item = unsafe { wm::GetDlgItem(self.window, FIRST_ID + n as i32) };
            match control.kind {
                kind::FOLDER => self.chosen.folder = window::text_of(item).trim().trim_end_matches('\\').into(),
                kind::PARTS => self.chosen.choices = window::ticked_parts(item, self.product.choices.len()),
                kind::CHECK => {
                    let ticked = window::is_ticked(item);
                    match control.property.as_str() {
                        "DESKTOPSHORTCUT" => self.chosen.desktop = ticked,
                        "STARTWITHSYSTEM" => self.chosen.startup = ticked,
                        "LicenseAccepted" => self.accepted = ticked,
                        "StartNow" => self.start_now = ticked,
                        _ => {}
                    }
                }
                kind::SCOPE => {
                    let for_everyone = !window::is_ticked(item);
                    if for_everyone != self.chosen.machine {
                        self.chosen.machine = for_everyone;
                        self.chosen.folder = crate::default_folder(self.product, for_everyone);
                    }
                }
                _ => {}
            }
        }
    }

    fn ended(&mut self, result: Result<()>, task: Task) {
        self.working = false;
        match result {
            Ok(()) => {
                self.outcome = install::done_code();
                if task == Task::Remove {
                    for (to, from) in
                        [("done-title", "removed-title"), ("done-below", "removed-below"), ("done-text", "removed-text")]
                    {
                        let word = self.product.word(self.language, from).into();
                        self.said.push((to, word));
                    }
                    self.start_now = false;
                }
                if self.outcome == code::RESTART {
                    // What would be started now may be half old and half new.
                    self.start_now = false;
                    self.said.insert(0, ("done-text", self.product.word(self.language, "setup-restart").into()));
                }
                self.show("Done");
                if task == Task::Remove {
                    hide_check(self);
                }
            }
            Err(fault) if fault.code == code::CANCELLED => {
                self.outcome = fault.code;
                self.show("Cancelled");
            }
            Err(fault) => self.failed(&fault),
        }
    }

    fn failed(&mut self, fault: &Fault) {
        self.outcome = fault.code;
        let sentence = crate::sentence(self.product, self.language, fault, &self.log_path);
        self.said.push(("failed-text", sentence.replace('&', "&&")));
        self.show("Failed");
    }

    /// Hands the work to a thread of its own.
    fn begin(&mut self, task: Task) {
        self.take();
        if task == Task::Install {
            if let Err(fault) = install::check(self.product, &self.chosen, &self.old) {
                return self.failed(&fault);
            }
        }
        let Some(mut job) = self.job.take() else { return };
        job.chosen = self.chosen.clone();
        job.task = task;
        self.working = true;
        CANCEL.store(false, Ordering::Relaxed);
        self.show("Progress");
        // SAFETY: the thread takes the job over, and frees it.
        unsafe {
            let thread = th::CreateThread(null(), 1 << 20, Some(work), Box::into_raw(job) as *const c_void, 0, null_mut());
            if thread.is_null() {
                self.failed(&Fault::last("a thread"));
            }
        }
    }

    fn press(&mut self, page: &'static Page, n: usize) {
        let control = &page.controls[n];
        match control.action {
            action::GO => {
                self.take();
                let scope_was_asked = page.name == "Scope";
                if scope_was_asked && self.chosen.machine && !install::is_administrator() {
                    return self.hand_over();
                }
                self.show(&control.page);
            }
            action::INSTALL | action::REPAIR => self.begin(Task::Install),
            action::REMOVE => self.begin(Task::Remove),
            action::ASK_CANCEL => self.ask(),
            action::STOP if self.asking.is_null() => self.answer(Answer::Stop),
            action::STOP => {
                self.asked();
                if self.working {
                    CANCEL.store(true, Ordering::Relaxed);
                } else {
                    self.outcome = code::CANCELLED;
                    self.show("Cancelled");
                }
            }
            action::STAY => self.asked(),
            action::LOOK_AGAIN => self.answer(Answer::Again),
            action::GO_ON => self.answer(Answer::GoOn),
            action::CLOSE_PROGRAMS => self.answer(Answer::Close),
            action::FINISH => {
                self.take();
                if self.start_now {
                    let key = self.product.rule("start-at-end");
                    programs::start(self.product, &self.chosen, key);
                }
                self.quit();
            }
            action::CLOSE => self.quit(),
            _ => {}
        }
    }

    fn quit(&mut self) {
        // SAFETY: the window is alive.
        unsafe { wm::DestroyWindow(self.window) };
    }

    fn answer(&mut self, answer: Answer) {
        ANSWER.store(answer as u32, Ordering::Relaxed);
        self.show("Progress");
        // SAFETY: the event is alive as long as the thread waits.
        unsafe { th::SetEvent(ANSWERED.load(Ordering::Relaxed) as HANDLE) };
    }

    /// Asks whether to stop, above the page.
    fn ask(&mut self) {
        let Some(page) = self.asking_page().filter(|_| self.asking.is_null()) else { return };
        let made = window::make(&class(), &self.product.name, page, &self.look, self.window);
        self.asking = made;
        window::fill(made, page, &self.look, self);
        // SAFETY: both windows are alive.
        unsafe {
            EnableWindow(self.window, 0);
            wm::ShowWindow(made, wm::SW_SHOW);
        }
    }

    fn asked(&mut self) {
        let asking = core::mem::replace(&mut self.asking, null_mut());
        // SAFETY: both windows are alive.
        unsafe {
            EnableWindow(self.window, 1);
            wm::DestroyWindow(asking);
        }
    }

    /// An administrator goes on in a process of its own, behind the page that asked.
    fn hand_over(&mut self) {
        let language = &self.product.languages[self.language].code;
        let line = format!("/ELEVATED /SCOPE=machine /LANGUAGE={language} {}", self.settings.line);
        // SAFETY: the window is alive.
        unsafe { wm::ShowWindow(self.window, wm::SW_HIDE) };
        match programs::run_elevated(&crate::package::own_path(), &line) {
            Some(code) => {
                self.outcome = code;
                self.quit();
            }
            // Refused by the person: the page is still there.
            // SAFETY: the window is alive.
            None => drop(unsafe { wm::ShowWindow(self.window, wm::SW_SHOW) }),
        }
    }
}

/// After a removal there is nothing to start.
fn hide_check(ui: &Ui) {
    if let Some(check) = window::of_kind(ui.window, ui.page(), kind::CHECK) {
        // SAFETY: the control is alive.
        unsafe { wm::ShowWindow(check, wm::SW_HIDE) };
    }
}

impl Fill for Ui {
    fn word(&self, n: i32) -> String {
        let Ok(n) = usize::try_from(n) else { return String::new() };
        let key = self.product.word_keys.get(n).map_or("", String::as_str);
        self.named(key)
    }

    fn named(&self, key: &str) -> String {
        let said = self.said.iter().find(|(k, _)| *k == key).map(|(_, s)| s.clone());
        said.unwrap_or_else(|| self.product.word(self.language, key).into())
    }

    fn is_ticked(&self, property: &str) -> bool {
        match property {
            "DESKTOPSHORTCUT" => self.chosen.desktop,
            "STARTWITHSYSTEM" => self.chosen.startup,
            "LicenseAccepted" => self.accepted,
            "StartNow" => self.start_now,
            _ => false,
        }
    }

    fn folder(&self) -> String {
        self.chosen.folder.clone()
    }

    fn license(&self) -> String {
        self.product.license.clone()
    }

    fn parts(&self) -> Vec<(String, bool)> {
        let title = |c: &crate::product::Choice| {
            if c.description.is_empty() { c.title.clone() } else { format!("{}: {}", c.title, c.description) }
        };
        self.product.choices.iter().map(title).zip(self.chosen.choices.iter().copied()).collect()
    }

    fn programs(&self) -> Vec<String> {
        self.programs.clone()
    }

    fn is_for_everyone(&self) -> bool {
        self.chosen.machine
    }
}

/// The working thread's ear and voice.
struct Thread<'l> {
    log: &'l mut Log,
    said: u64,
}

fn post<T>(message: u32, number: usize, what: T) {
    let window = WINDOW.load(Ordering::Relaxed) as HWND;
    let boxed = Box::into_raw(Box::new(what));
    // SAFETY: the window's procedure takes the box over; if nobody does, it is taken back here.
    unsafe {
        if wm::PostMessageW(window, message, number, boxed as LPARAM) == 0 {
            drop(Box::from_raw(boxed));
        }
    }
}

impl Watch for Thread<'_> {
    fn progress(&mut self, thousandths: u32, doing: &str) {
        let now = files::ticks();
        if now >= self.said + 40 {
            self.said = now;
            post(PROGRESS, thousandths as usize, String::from(doing));
        }
    }

    fn cancelled(&self) -> bool {
        CANCEL.load(Ordering::Relaxed)
    }

    fn in_use(&mut self, names: &[String]) -> Answer {
        post(IN_USE, 0, names.to_vec());
        // SAFETY: the event was made before the thread.
        unsafe { th::WaitForSingleObject(ANSWERED.load(Ordering::Relaxed) as HANDLE, th::INFINITE) };
        match ANSWER.load(Ordering::Relaxed) {
            n if n == Answer::GoOn as u32 => Answer::GoOn,
            n if n == Answer::Close as u32 => Answer::Close,
            n if n == Answer::Stop as u32 => Answer::Stop,
            _ => Answer::Again,
        }
    }

    fn log(&mut self, line: &str) {
        self.log.line(line);
    }
}

unsafe extern "system" fn work(job: *mut c_void) -> u32 {
    let mut job = Box::from_raw(job.cast::<Job>());
    crate::shortcut::begin();
    let mut watch = Thread { log: &mut job.log, said: 0 };
    let result = match job.task {
        Task::Install => install::install(&mut job.package, job.product, &job.chosen, &job.old, &mut watch),
        Task::Remove => match crate::uninstaller_of(&job.package, &job.old) {
            Ok(program) => install::remove(job.product, &job.old, &program, &mut watch),
            Err(fault) => Err(fault),
        },
    };
    job.log.result(&result);
    post(ENDED, job.task as usize, result);
    0
}

fn class() -> Vec<u16> {
    wide("UpperShelfWizard")
}

unsafe extern "system" fn procedure(window: HWND, message: u32, w: WPARAM, l: LPARAM) -> LRESULT {
    if UI.is_null() {
        return wm::DefWindowProcW(window, message, w, l);
    }
    let ui = ui();
    let is_asking = !ui.asking.is_null() && window == ui.asking;
    let page = if is_asking { ui.asking_page().unwrap_or_else(|| ui.page()) } else { ui.page() };
    match message {
        wm::WM_COMMAND => {
            let id = (w & 0xFFFF) as i32;
            // 1 and 2 are the return and the escape key.
            let n = match id {
                1 => page.default,
                2 => page.cancel,
                id if id >= FIRST_ID + SECOND => return 0,
                id => id - FIRST_ID,
            };
            let Some(control) = usize::try_from(n).ok().and_then(|n| page.controls.get(n)) else { return 0 };
            if control.kind == kind::BUTTON {
                let button = wm::GetDlgItem(window, FIRST_ID + n);
                if windows_sys::Win32::UI::Input::KeyboardAndMouse::IsWindowEnabled(button) != 0 {
                    ui.press(page, n as usize);
                }
            } else if control.kind == kind::CHECK {
                ui.take();
                // Buttons that wait for this box.
                for (n, other) in page.controls.iter().enumerate() {
                    if other.kind == kind::BUTTON && other.property == control.property {
                        let button = wm::GetDlgItem(window, FIRST_ID + n as i32);
                        EnableWindow(button, ui.is_ticked(&control.property).into());
                    }
                }
            }
            0
        }
        wm::WM_CLOSE => {
            let cancel = usize::try_from(page.cancel).unwrap_or(0);
            ui.press(page, cancel);
            0
        }
        wm::WM_PAINT => {
            window::draw(window, page, &ui.look);
            0
        }
        wm::WM_CTLCOLORSTATIC => {
            let id = wm::GetDlgCtrlID(l as HWND) - FIRST_ID;
            let control = usize::try_from(id).ok().and_then(|n| page.controls.get(n));
            let on_strip = control.is_some_and(|c| matches!(c.kind, kind::TITLE | kind::BELOW));
            if on_strip {
                gdi::SetBkColor(w as gdi::HDC, ui.look.tint);
                return ui.look.tint_brush as LRESULT;
            }
            if control.is_some_and(|c| c.kind == kind::LICENSE) {
                gdi::SetBkColor(w as gdi::HDC, gdi::GetSysColor(gdi::COLOR_WINDOW));
                return gdi::GetSysColorBrush(gdi::COLOR_WINDOW) as LRESULT;
            }
            wm::DefWindowProcW(window, message, w, l)
        }
        DM_GETDEFID => (i64::from(page.default + FIRST_ID) | (HAS_DEFAULT as i64) << 16) as LRESULT,
        // The screen's resolution changed under the window.
        wm::WM_DPICHANGED if !is_asking => {
            let old = core::mem::replace(&mut ui.look, Look::new(ui.product.accent, ui.product.tint, (w & 0xFFFF) as u32));
            let rect = &*(l as *const windows_sys::Win32::Foundation::RECT);
            let (width, height) = (rect.right - rect.left, rect.bottom - rect.top);
            wm::SetWindowPos(window, null_mut(), rect.left, rect.top, width, height, wm::SWP_NOZORDER);
            ui.take();
            window::fill(window, page, &ui.look, ui);
            old.free();
            0
        }
        PROGRESS => {
            let doing = Box::from_raw(l as *mut String);
            if page.name == "Progress" {
                window::progress(window, page, w as u32, &doing);
            }
            0
        }
        IN_USE => {
            ui.programs = *Box::from_raw(l as *mut Vec<String>);
            ui.show("MsiRMFilesInUse");
            0
        }
        ENDED => {
            let result = *Box::from_raw(l as *mut Result<()>);
            if !ui.asking.is_null() {
                ui.asked();
            }
            ui.ended(result, if w == Task::Remove as usize { Task::Remove } else { Task::Install });
            0
        }
        wm::WM_DESTROY if !is_asking && window == ui.window => {
            wm::PostQuitMessage(0);
            0
        }
        _ => wm::DefWindowProcW(window, message, w, l),
    }
}

/// Everything that the wizard begins with.
pub struct Start {
    pub package: Package,
    pub product: &'static Product,
    pub settings: Settings,
    pub language: usize,
    pub chosen: Chosen,
    pub old: Record,
    pub log: Log,
    /// Something that already speaks against it.
    pub fault: Option<Fault>,
}

/// Shows the pages until somebody closes the last one; gives the exit code.
pub fn run(start: Start) -> u32 {
    window::begin();
    let class_name = class();
    // SAFETY: the class's name lives as long as the process; everything else is plain data.
    unsafe {
        let mut class: wm::WNDCLASSW = core::mem::zeroed();
        class.lpfnWndProc = Some(procedure);
        class.hInstance = GetModuleHandleW(null());
        class.hCursor = wm::LoadCursorW(null_mut(), wm::IDC_ARROW);
        class.hbrBackground = (gdi::COLOR_BTNFACE + 1) as usize as gdi::HBRUSH;
        class.lpszClassName = class_name.as_ptr();
        wm::RegisterClassW(&class);
        ANSWERED.store(th::CreateEventW(null(), 0, 0, null()) as isize, Ordering::Relaxed);
    }
    let Start { package, product, settings, language, chosen, old, log, fault } = start;
    let first = first_page(product, &settings, &old, package.removes);
    let Some(page) = product.pages.iter().position(|p| p.name == first) else { return code::DAMAGED };
    let look = Look::new(product.accent, product.tint, window::dpi_of(null_mut()));
    let start_now = !product.rule("start-at-end").is_empty();
    let log_path = log.path.clone();
    let job = Job { package, product, chosen: chosen.clone(), old: old.clone(), log, task: Task::Install };
    let all = Ui {
        product, settings, language, chosen, old, accepted: false, start_now, page, asking: null_mut(), window: null_mut(), look,
        programs: Vec::new(), said: Vec::new(), job: Some(Box::new(job)), working: false, log_path, outcome: code::CANCELLED,
    };
    // SAFETY: one thread has windows, and this is its only way in.
    unsafe {
        UI = Box::into_raw(Box::new(all));
        let ui = ui();
        ui.window = window::make(&class_name, &product.name, ui.page(), &ui.look, null_mut());
        WINDOW.store(ui.window as isize, Ordering::Relaxed);
        match fault {
            Some(fault) => ui.failed(&fault),
            None => ui.show(&first),
        }
        wm::ShowWindow(ui.window, wm::SW_SHOWNORMAL);
        wm::SetForegroundWindow(ui.window);
        let mut message = core::mem::zeroed();
        while wm::GetMessageW(&mut message, null_mut(), 0, 0) > 0 {
            let top = if ui.asking.is_null() { ui.window } else { ui.asking };
            if wm::IsDialogMessageW(top, &message) == 0 {
                wm::TranslateMessage(&message);
                wm::DispatchMessageW(&message);
            }
        }
        ui.outcome
    }
}

fn first_page(product: &Product, settings: &Settings, old: &Record, removes: bool) -> String {
    if removes {
        return "Remove".into();
    }
    if old.is_there() && old.version == product.version && !settings.elevated {
        return "Maintain".into();
    }
    let first = product.pages.first().map_or(String::new(), |p| p.name.clone());
    if settings.elevated {
        // Behind the page that asked for whom.
        let scope = product.pages.iter().find(|p| p.name == "Scope");
        let next = scope.and_then(|p| p.controls.iter().find(|c| c.name == "Next"));
        return next.map_or(first, |c| c.page.clone());
    }
    first
}
