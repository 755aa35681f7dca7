//! The wizard: which page comes when, what its controls do, and the thread that works behind the progress.

mod events;

use crate::desired::Chosen;
use crate::install;
use crate::log::Log;
use crate::package::Package;
use crate::product::{control, Page, Product};
use crate::progress::{Answer, Progress};
use crate::record::Record;
use crate::settings::Settings;
use crate::system::{code, Fault};
use crate::text::{cat, t, Text, EMPTY};
use crate::twin::Twin;
use crate::window::{self, kind, Look, FIRST_ID};
use crate::{files, programs};
use alloc::boxed::Box;
use alloc::vec::Vec;
use core::ffi::c_void;
use core::ptr::{null, null_mut};
use core::sync::atomic::{AtomicBool, AtomicIsize, AtomicU32, Ordering};
use windows_sys::Win32::Foundation::{HANDLE, HWND};
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
    old: &'static Record,
    twin: Option<&'static Twin>,
    log: Log,
    task: Task,
}

pub struct Ui {
    pub product: &'static Product,
    settings: &'static Settings,
    language: usize,
    pub chosen: Chosen,
    old: &'static Record,
    twin: Option<&'static Twin>,
    accepted: bool,
    start_now: bool,
    page: &'static Page,
    /// The page that asks whether to stop, while it is there.
    asking: HWND,
    window: HWND,
    pub look: Look,
    pub programs: Vec<Text>,
    /// What the last pages say in place of their own words: key of the word, and the sentence.
    said: Vec<(Text, Text)>,
    job: Option<Box<Job>>,
    working: bool,
    log_path: Text,
    outcome: u32,
}

/// A page by its name.
fn page_of(product: &'static Product, name: Text) -> Option<&'static Page> {
    product.pages.iter().find(|p| p.item.text(0).is(name))
}

/// The windows' state: made before the first window, and only used by the thread of the windows.
static mut UI: *mut Ui = null_mut();

fn ui() -> &'static mut Ui {
    // SAFETY: see UI; it is set before any window is there, and never freed.
    unsafe { &mut *UI }
}

impl Ui {
    fn show(&mut self, name: Text) {
        if let Some(page) = page_of(self.product, name) {
            self.page = page;
            window::fill(self.window, page, self);
        }
    }

    /// What a box's property is.
    fn property(&mut self, name: Text) -> Option<&mut bool> {
        Some(match name.among(t!("DESKTOPSHORTCUT|STARTWITHSYSTEM|LicenseAccepted|StartNow")) {
            0 => &mut self.chosen.desktop,
            1 => &mut self.chosen.startup,
            2 => &mut self.accepted,
            3 => &mut self.start_now,
            _ => return None,
        })
    }

    /// Whether the box of a property is ticked.
    pub fn is_ticked(&self, name: Text) -> bool {
        ui().property(name).is_some_and(|p| *p)
    }

    /// The word of a number, as it is on the pages now.
    pub fn word(&self, n: i32) -> Text {
        let key = usize::try_from(n).ok().and_then(|n| self.product.word_keys.get(n));
        key.map_or(EMPTY, |key| self.named(*key))
    }

    pub fn named(&self, key: Text) -> Text {
        let said = self.said.iter().find(|(k, _)| k.is(key));
        said.map_or_else(|| self.product.word(self.language, key), |(_, sentence)| *sentence)
    }

    /// Takes over what was typed and ticked on the page.
    fn take(&mut self) {
        for (n, control) in self.page.controls.iter().enumerate() {
            // SAFETY: the window is alive.
            let item = unsafe { wm::GetDlgItem(self.window, FIRST_ID + n as i32) };
            match control.number(control::KIND) {
                kind::FOLDER => self.chosen.folder = window::text_of(item).trim(b" \t").without_slash(),
                kind::PARTS => self.chosen.choices = window::ticked_parts(item, self.product.choices.len()),
                kind::CHECK => {
                    if let Some(property) = self.property(control.text(control::PROPERTY)) {
                        *property = window::is_ticked(item);
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

    /// Another word on the last pages.
    fn say_instead(&mut self, of: Text, key: Text) {
        let word = self.product.word(self.language, key);
        self.said.push((of, word));
    }

    fn ended(&mut self, fault: Option<Fault>, task: Task) {
        self.working = false;
        let Some(fault) = fault else {
            self.outcome = install::done_code();
            if self.outcome == code::RESTART {
                // What would be started now may be half old and half new.
                self.start_now = false;
                self.say_instead(t!("done-text"), t!("setup-restart"));
            }
            if task == Task::Remove {
                self.say_instead(t!("done-title"), t!("removed-title"));
                self.say_instead(t!("done-below"), t!("removed-below"));
                self.say_instead(t!("done-text"), t!("removed-text"));
                self.start_now = false;
            }
            self.show(t!("Done"));
            if task == Task::Remove {
                // There is nothing to start.
                if let Some(check) = window::of_kind(self.window, self.page, kind::CHECK) {
                    // SAFETY: the control is alive.
                    unsafe { wm::ShowWindow(check, wm::SW_HIDE) };
                }
            }
            return;
        };
        if fault.code == code::CANCELLED {
            self.outcome = fault.code;
            self.show(t!("Cancelled"));
        } else {
            self.failed(fault);
        }
    }

    fn failed(&mut self, fault: Fault) {
        self.outcome = fault.code;
        let sentence = crate::sentence(self.product, self.language, fault, self.log_path);
        self.said.push((t!("failed-text"), sentence.replace(t!("&"), t!("&&"))));
        self.show(t!("Failed"));
    }

    /// Hands the work to a thread of its own.
    fn begin(&mut self, task: Task) {
        self.take();
        if task == Task::Install {
            if let Err(fault) = install::check(self.product, &self.chosen, self.old, self.twin) {
                return self.failed(fault);
            }
        }
        let Some(mut job) = self.job.take() else { return };
        job.chosen = self.chosen.clone();
        job.task = task;
        self.working = true;
        CANCEL.store(false, Ordering::Relaxed);
        self.show(t!("Progress"));
        // SAFETY: the thread takes the job over.
        unsafe {
            let thread =
                th::CreateThread(null(), 1 << 20, Some(work), Box::into_raw(job) as *const c_void, 0, null_mut());
            if thread.is_null() {
                self.failed(Fault::last(t!("a thread")));
            }
        }
    }

    fn press(&mut self, page: &'static Page, n: usize) {
        let control = page.controls[n];
        match control.number(control::ACTION) {
            action::GO => {
                self.take();
                if page.item.text(0).is(t!("Scope")) && self.chosen.machine && !programs::is_administrator() {
                    return self.hand_over();
                }
                self.show(control.text(control::PAGE));
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
                    self.show(t!("Cancelled"));
                }
            }
            action::STAY => self.asked(),
            action::LOOK_AGAIN => self.answer(Answer::Again),
            action::GO_ON => self.answer(Answer::GoOn),
            action::CLOSE_PROGRAMS => self.answer(Answer::Close),
            action::FINISH => {
                self.take();
                if self.start_now {
                    programs::start(self.product, &self.chosen, self.product.rule(t!("start-at-end")));
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
        self.show(t!("Progress"));
        // SAFETY: the event is alive as long as the thread waits.
        unsafe { th::SetEvent(ANSWERED.load(Ordering::Relaxed) as HANDLE) };
    }

    /// Asks whether to stop, above the page.
    fn ask(&mut self) {
        let Some(page) = page_of(self.product, ASKING).filter(|_| self.asking.is_null()) else { return };
        let made = window::make(self.product.name, page, &self.look, self.window);
        self.asking = made;
        window::fill(made, page, self);
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
        let language = self.product.languages[self.language].text(0);
        let line = cat(&[t!("/ELEVATED /SCOPE=machine /LANGUAGE="), language, t!(" "), self.settings.line]);
        // SAFETY: the window is alive.
        unsafe { wm::ShowWindow(self.window, wm::SW_HIDE) };
        crate::let_another();
        if let Some(job) = &mut self.job {
            job.log.close();
        }
        match programs::run_elevated(crate::package::own_path(), line) {
            Some(code) => {
                self.outcome = code;
                self.quit();
            }
            // Refused by the user: the page is still there.
            None => {
                let taken = crate::one_at_a_time(self.product);
                // SAFETY: the window is alive.
                unsafe { wm::ShowWindow(self.window, wm::SW_SHOW) };
                if let Err(fault) = taken {
                    self.failed(fault);
                }
            }
        }
    }
}

/// Tells the windows something. What is pointed to stays: few of these are ever sent.
fn post(message: u32, number: usize, what: isize) {
    // SAFETY: the window may be gone; nothing happens then.
    unsafe { wm::PostMessageW(WINDOW.load(Ordering::Relaxed) as HWND, message, number, what) };
}

/// Tells the windows how far it is, not too often; called by the thread that works, as all up to it.
pub fn progress(last: &mut u64, thousandths: u32, doing: Text) {
    let now = files::ticks();
    if now >= *last + 40 {
        *last = now;
        post(PROGRESS, thousandths as usize, doing.ptr() as isize);
    }
}

pub fn is_cancelled() -> bool {
    CANCEL.load(Ordering::Relaxed)
}

/// Has the windows ask about files in use, and waits for the answer.
pub fn ask_in_use(names: &[Text]) -> Answer {
    post(IN_USE, 0, Box::into_raw(Box::new(names.to_vec())) as isize);
    // SAFETY: the event was made before the thread.
    unsafe { th::WaitForSingleObject(ANSWERED.load(Ordering::Relaxed) as HANDLE, th::INFINITE) };
    match ANSWER.load(Ordering::Relaxed) {
        n if n == Answer::GoOn as u32 => Answer::GoOn,
        n if n == Answer::Close as u32 => Answer::Close,
        n if n == Answer::Stop as u32 => Answer::Stop,
        _ => Answer::Again,
    }
}

unsafe extern "system" fn work(job: *mut c_void) -> u32 {
    let job = &mut *job.cast::<Job>();
    crate::shortcut::begin();
    let mut progress = Progress::user(&mut job.log);
    let result = match job.task {
        Task::Install => install::install(&mut job.package, job.product, &job.chosen, job.old, job.twin, &mut progress),
        Task::Remove => crate::uninstaller_of(&job.package, job.old)
            .and_then(|program| install::remove(job.product, job.old, &program, &mut progress)),
    };
    job.log.result(&result);
    let reason = result.err().map_or(null(), |fault| &raw const *fault.0);
    post(ENDED, job.task as usize, reason as isize);
    0
}

/// The page that asks whether to stop.
const ASKING: Text = t!("AskCancel");

/// Everything that the wizard begins with.
pub struct Start {
    pub package: Package,
    pub product: &'static Product,
    pub settings: &'static Settings,
    pub language: usize,
    pub chosen: Chosen,
    pub old: &'static Record,
    pub twin: Option<&'static Twin>,
    pub log: Log,
    /// Something that already speaks against it.
    pub fault: Option<Fault>,
}

/// Shows the pages until somebody closes the last one; gives the exit code.
pub fn run(start: Start) -> u32 {
    window::begin();
    // SAFETY: the class's name lives as long as the process; everything else is plain data.
    unsafe {
        let mut class: wm::WNDCLASSW = core::mem::zeroed();
        class.lpfnWndProc = Some(events::procedure);
        class.hInstance = GetModuleHandleW(null());
        class.hCursor = wm::LoadCursorW(null_mut(), wm::IDC_ARROW);
        class.hbrBackground = (gdi::COLOR_BTNFACE + 1) as usize as gdi::HBRUSH;
        class.lpszClassName = window::CLASS.ptr();
        wm::RegisterClassW(&class);
        ANSWERED.store(th::CreateEventW(null(), 0, 0, null()) as isize, Ordering::Relaxed);
    }
    let Start { package, product, settings, language, chosen, old, twin, log, fault } = start;
    let first = first_page(product, settings, old, package.removes);
    let Some(page) = page_of(product, first) else { return code::DAMAGED };
    let look = Look::of(product, window::dpi());
    let start_now = !product.rule(t!("start-at-end")).is_empty();
    let log_path = log.path;
    let job = Job { package, product, chosen: chosen.clone(), old, twin, log, task: Task::Install };
    let all = Ui {
        product,
        settings,
        language,
        chosen,
        old,
        twin,
        accepted: false,
        start_now,
        page,
        asking: null_mut(),
        window: null_mut(),
        look,
        programs: Vec::new(),
        said: Vec::new(),
        job: Some(Box::new(job)),
        working: false,
        log_path,
        outcome: code::CANCELLED,
    };
    // SAFETY: one thread has windows, and this is its only way in.
    unsafe {
        UI = Box::into_raw(Box::new(all));
        let ui = ui();
        ui.window = window::make(product.name, page, &ui.look, null_mut());
        WINDOW.store(ui.window as isize, Ordering::Relaxed);
        match fault {
            Some(fault) => ui.failed(fault),
            None => ui.show(first),
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

fn first_page(product: &'static Product, settings: &Settings, old: &Record, removes: bool) -> Text {
    if removes {
        return t!("Remove");
    }
    if settings.elevated && !old.is_there() {
        // Behind the page that asked for whom.
        let controls = page_of(product, t!("Scope")).map_or(&[][..], |p| &p.controls);
        if let Some(next) = controls.iter().find(|c| c.text(control::NAME).is(t!("Next"))) {
            return next.text(control::PAGE);
        }
    } else if old.is_there() && old.version.is(product.version) {
        return t!("Maintain");
    }
    product.pages.first().map_or(EMPTY, |p| p.item.text(0))
}
