//! What a program does before anything else, and how it loads parts of the system: only from the system's own folder.
//! Beside a downloaded program anybody may have put a library with a name of the system's.

use crate::text::{cat, path, Text};
use core::ffi::c_void;
use windows_sys::core::PCSTR;
use windows_sys::Win32::System::LibraryLoader::{
    GetModuleHandleW, GetProcAddress, LoadLibraryExW, LOAD_WITH_ALTERED_SEARCH_PATH,
};
use windows_sys::Win32::System::SystemInformation::GetSystemDirectoryW;

#[path = "../../shared/load_config.rs"]
mod load_config;

use load_config::SYSTEM_ONLY;

/// Whatever is loaded from now on comes from the system's folder. Before Windows 8 only an update brings this.
pub fn from_the_system_only() {
    // SAFETY: the function has this form ("SetDefaultDllDirectories"); it is only called where there is one.
    unsafe {
        let kernel = GetModuleHandleW(crate::text::t!("kernel32").ptr());
        if let Some(function) = GetProcAddress(kernel, c"SetDefaultDllDirectories".as_ptr() as PCSTR) {
            let set: unsafe extern "system" fn(u32) -> i32 = core::mem::transmute(function);
            set(SYSTEM_ONLY);
        }
    }
}

/// The system's folder.
pub fn system_folder() -> Text {
    let mut buffer = [0u16; 260];
    // SAFETY: the buffer is as long as is said.
    unsafe { GetSystemDirectoryW(buffer.as_mut_ptr(), buffer.len() as u32) };
    Text::up_to_zero(&buffer).without_slash()
}

/// A part of the system that is only loaded when it is wanted.
#[derive(Clone, Copy)]
pub struct Library(*mut c_void);

impl Library {
    /// Loads it by its whole path; none where the system has none.
    pub fn load(name: Text) -> Option<Self> {
        let whole = path(system_folder(), cat(&[name, crate::text::t!(".dll")]));
        // SAFETY: the path ends with a zero; the library stays loaded.
        let module = unsafe { LoadLibraryExW(whole.ptr(), core::ptr::null_mut(), LOAD_WITH_ALTERED_SEARCH_PATH) };
        (!module.is_null()).then_some(Self(module))
    }

    /// A function of it.
    ///
    /// # Safety
    /// `F` is a pointer to a function of that one's form.
    pub unsafe fn function<F: Copy>(self, name: &core::ffi::CStr) -> Option<F> {
        let found = GetProcAddress(self.0, name.as_ptr() as PCSTR)?;
        Some(core::mem::transmute_copy(&found))
    }
}
