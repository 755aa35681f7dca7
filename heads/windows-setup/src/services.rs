//! Services: made, changed, stopped, taken away.

use crate::files::ticks;
use crate::system::{done, Fault, Result};
use crate::text::{t, Text};
use windows_sys::Win32::System::Services as sc;
use windows_sys::Win32::System::Threading::Sleep;

/// A service, as it is set up and as it is remembered.
pub struct Settings {
    pub name: Text,
    pub title: Text,
    pub description: Text,
    /// The whole command line.
    pub command: Text,
    /// 0 automatic, 1 on demand, 2 disabled.
    pub start: i32,
    pub account: Text,
}

/// The same in one word of memory; it is never given back.
pub type Config = &'static Settings;

struct Handle(sc::SC_HANDLE);

impl Drop for Handle {
    fn drop(&mut self) {
        // SAFETY: the handle is open and this is its only owner.
        unsafe { sc::CloseServiceHandle(self.0) };
    }
}

fn manager() -> Result<Handle> {
    // SAFETY: null stands for this machine and its active services.
    let handle = unsafe { sc::OpenSCManagerW(core::ptr::null(), core::ptr::null(), sc::SC_MANAGER_ALL_ACCESS) };
    if handle.is_null() {
        Err(Fault::last(t!("services")))
    } else {
        Ok(Handle(handle))
    }
}

fn open(manager: &Handle, name: Text) -> Option<Handle> {
    // SAFETY: the name ends with a zero.
    let handle = unsafe { sc::OpenServiceW(manager.0, name.ptr(), sc::SERVICE_ALL_ACCESS) };
    (!handle.is_null()).then_some(Handle(handle))
}

/// Makes a service, or gives one that is there these settings.
pub fn set(config: Config) -> Result<()> {
    let manager = manager()?;
    let (name, title, command) = (config.name.ptr(), config.title.ptr(), config.command.ptr());
    let account = if config.account.is_empty() { core::ptr::null() } else { config.account.ptr() };
    let start = match config.start {
        0 => sc::SERVICE_AUTO_START,
        1 => sc::SERVICE_DEMAND_START,
        _ => sc::SERVICE_DISABLED,
    };
    let null = core::ptr::null();
    // SAFETY: texts end with a zero; what does not change is null.
    let service = unsafe {
        match open(&manager, config.name) {
            Some(service) => {
                let ok = sc::ChangeServiceConfigW(
                    service.0,
                    sc::SERVICE_WIN32_OWN_PROCESS,
                    start,
                    sc::SERVICE_ERROR_NORMAL,
                    command,
                    null,
                    core::ptr::null_mut(),
                    null,
                    account,
                    null,
                    title,
                );
                done(ok, config.name)?;
                service
            }
            None => {
                let handle = sc::CreateServiceW(
                    manager.0,
                    name,
                    title,
                    sc::SERVICE_ALL_ACCESS,
                    sc::SERVICE_WIN32_OWN_PROCESS,
                    start,
                    sc::SERVICE_ERROR_NORMAL,
                    command,
                    null,
                    core::ptr::null_mut(),
                    null,
                    account,
                    null,
                );
                if handle.is_null() {
                    return Err(Fault::last(config.name));
                }
                Handle(handle)
            }
        }
    };
    let description = sc::SERVICE_DESCRIPTIONW { lpDescription: config.description.ptr().cast_mut() };
    // SAFETY: the structure is the one that this level asks for.
    unsafe { sc::ChangeServiceConfig2W(service.0, sc::SERVICE_CONFIG_DESCRIPTION, (&raw const description).cast()) };
    Ok(())
}

/// Stops a service and waits until it has stopped, half a minute at most; gives whether it was running.
pub fn stop(name: Text) -> bool {
    let Ok(manager) = manager() else { return false };
    let Some(service) = open(&manager, name) else { return false };
    let end = ticks() + 30_000;
    // Whether it takes the order can't be told from the answer: one that ends at once may not give any.
    let (mut was_running, mut asked) = (false, false);
    // SAFETY: the structure is plain data, filled by the system.
    unsafe {
        let mut status: sc::SERVICE_STATUS = core::mem::zeroed();
        while sc::QueryServiceStatus(service.0, &mut status) != 0
            && status.dwCurrentState != sc::SERVICE_STOPPED
            && ticks() < end
        {
            // One that is only starting can't be stopped yet, and one that has just started may not listen yet.
            if !asked && status.dwCurrentState == sc::SERVICE_RUNNING {
                // One that never listens is left alone after five seconds.
                if status.dwControlsAccepted & sc::SERVICE_ACCEPT_STOP == 0 && ticks() + 25_000 > end {
                    break;
                }
                was_running = true;
                asked = sc::ControlService(service.0, sc::SERVICE_CONTROL_STOP, &mut status) != 0;
            }
            Sleep(100);
        }
    }
    was_running
}

/// Starts a service; that it can't be is its own trouble.
pub fn start(name: Text) -> bool {
    let Ok(manager) = manager() else { return false };
    let Some(service) = open(&manager, name) else { return false };
    // SAFETY: no arguments.
    unsafe { sc::StartServiceW(service.0, 0, core::ptr::null()) != 0 }
}

pub fn remove(name: Text) -> Result<()> {
    stop(name);
    let manager = manager()?;
    match open(&manager, name) {
        // SAFETY: the handle is open.
        Some(service) if unsafe { sc::DeleteService(service.0) } == 0 => Err(Fault::last(name)),
        _ => Ok(()),
    }
}
