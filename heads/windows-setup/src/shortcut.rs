//! Shortcuts: the shell's own objects write them.

use crate::system::{Fault, Result};
use crate::text::Text;
use core::ffi::c_void;
use windows_sys::core::{GUID, HRESULT};
use windows_sys::Win32::System::Com::{
    CoCreateInstance, CoInitializeEx, CLSCTX_INPROC_SERVER, COINIT_APARTMENTTHREADED,
};

const CLASS: GUID = GUID::from_u128(0x00021401_0000_0000_c000_000000000046);
const SHELL_LINK: GUID = GUID::from_u128(0x000214f9_0000_0000_c000_000000000046);
const PERSIST_FILE: GUID = GUID::from_u128(0x0000010b_0000_0000_c000_000000000046);
const PROPERTY_STORE: GUID = GUID::from_u128(0x886d8eeb_8cf2_4446_8d02_cdba1dbdcf99);
/// `System.AppUserModel.ID`.
const MODEL_ID: PropertyKey = PropertyKey { set: GUID::from_u128(0x9f4c2855_9f79_4b39_a8d0_e1d42de1d5f3), id: 5 };
const VT_LPWSTR: u16 = 31;

/// What a shortcut says, and where it is.
#[derive(Clone, Copy)]
pub struct Link {
    pub path: Text,
    pub target: Text,
    pub arguments: Text,
    pub folder: Text,
    pub description: Text,
    /// By which the task bar knows the program's windows.
    pub model: Text,
}

type Object = *mut *const *const c_void;

#[repr(C)]
struct PropertyKey {
    set: GUID,
    id: u32,
}

/// A property's value that is a text.
#[repr(C)]
struct Variant {
    kind: u16,
    reserved: [u16; 3],
    text: *const u16,
    rest: usize,
}

/// A method by its number in the object's table.
///
/// # Safety
/// `F` is that method's type, and the object is alive.
unsafe fn method<F: Copy>(object: Object, n: usize) -> F {
    let at = (*object).add(n);
    core::mem::transmute_copy(&*at)
}

type Texts = unsafe extern "system" fn(Object, *const u16) -> HRESULT;
type Release = unsafe extern "system" fn(Object) -> u32;
type Query = unsafe extern "system" fn(Object, *const GUID, *mut Object) -> HRESULT;
type Icon = unsafe extern "system" fn(Object, *const u16, i32) -> HRESULT;
type Save = unsafe extern "system" fn(Object, *const u16, i32) -> HRESULT;
type SetValue = unsafe extern "system" fn(Object, *const PropertyKey, *const Variant) -> HRESULT;
type Commit = unsafe extern "system" fn(Object) -> HRESULT;

/// Gives the object back at the end.
struct Held(Object);

impl Drop for Held {
    fn drop(&mut self) {
        // SAFETY: the object is alive, and this is its only owner.
        unsafe { method::<Release>(self.0, 2)(self.0) };
    }
}

fn checked(result: HRESULT, path: Text) -> Result<()> {
    if result < 0 {
        Err(Fault::of(path, result as u32))
    } else {
        Ok(())
    }
}

/// Gets the thread ready for the shell's objects.
pub fn begin() {
    // SAFETY: no preconditions; it is ended with the process.
    unsafe { CoInitializeEx(core::ptr::null(), COINIT_APARTMENTTHREADED as u32) };
}

/// Writes a shortcut.
pub fn write(path: Text, link: &Link) -> Result<()> {
    // SAFETY: interfaces and their methods are those of the system's own declarations: IShellLinkW, IPropertyStore,
    // IPersistFile; texts end with a zero and live until the call is over.
    unsafe {
        let mut object: Object = core::ptr::null_mut();
        let out = (&raw mut object).cast();
        checked(CoCreateInstance(&CLASS, core::ptr::null_mut(), CLSCTX_INPROC_SERVER, &SHELL_LINK, out), path)?;
        let shell = Held(object);
        let set = |n: usize, text: Text| checked(method::<Texts>(shell.0, n)(shell.0, text.ptr()), path);
        set(20, link.target)?;
        set(11, link.arguments)?;
        set(9, link.folder)?;
        set(7, link.description)?;
        checked(method::<Icon>(shell.0, 17)(shell.0, link.target.ptr(), 0), path)?;
        let mut object: Object = core::ptr::null_mut();
        if method::<Query>(shell.0, 0)(shell.0, &PROPERTY_STORE, &mut object) >= 0 {
            let store = Held(object);
            let value = Variant { kind: VT_LPWSTR, reserved: [0; 3], text: link.model.ptr(), rest: 0 };
            checked(method::<SetValue>(store.0, 6)(store.0, &MODEL_ID, &value), path)?;
            checked(method::<Commit>(store.0, 7)(store.0), path)?;
        }
        let mut object: Object = core::ptr::null_mut();
        checked(method::<Query>(shell.0, 0)(shell.0, &PERSIST_FILE, &mut object), path)?;
        let file = Held(object);
        checked(method::<Save>(file.0, 6)(file.0, path.ptr(), 1), path)
    }
}
