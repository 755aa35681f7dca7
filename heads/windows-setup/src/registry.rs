//! The registry: values read, set and taken away, in both views.

use crate::system::{narrow, wide, Fault, Result};
use alloc::string::String;
use alloc::vec;
use alloc::vec::Vec;
use windows_sys::Win32::System::Registry as reg;

/// Where a value stands.
#[derive(Clone, PartialEq, Eq)]
pub struct At {
    /// The machine's part, or the person's.
    pub machine: bool,
    /// The part that 32-bit programs see.
    pub narrow: bool,
    pub key: String,
    pub name: String,
}

/// A value: its type and its bytes.
pub type Data = (u32, Vec<u8>);

pub fn text(value: &str) -> Data {
    (reg::REG_SZ, bytes(&wide(value)))
}

pub fn number(value: u32) -> Data {
    (reg::REG_DWORD, value.to_le_bytes().to_vec())
}

pub fn bytes(units: &[u16]) -> Vec<u8> {
    units.iter().flat_map(|u| u.to_le_bytes()).collect()
}

pub fn list(texts: &[String]) -> Data {
    let mut units: Vec<u16> = Vec::new();
    for text in texts {
        units.extend(text.encode_utf16().chain([0]));
    }
    units.push(0);
    (reg::REG_MULTI_SZ, bytes(&units))
}

/// A list's texts.
pub fn as_list(data: &Data) -> Vec<String> {
    let units: Vec<u16> = data.1.chunks_exact(2).map(|b| u16::from_le_bytes([b[0], b[1]])).collect();
    units.split(|u| *u == 0).filter(|t| !t.is_empty()).map(narrow).collect()
}

/// A text's value.
pub fn as_text(data: &Data) -> String {
    let units: Vec<u16> = data.1.chunks_exact(2).map(|b| u16::from_le_bytes([b[0], b[1]])).collect();
    narrow(&units)
}

fn root(machine: bool) -> reg::HKEY {
    if machine { reg::HKEY_LOCAL_MACHINE } else { reg::HKEY_CURRENT_USER }
}

fn view(narrow: bool) -> u32 {
    // A 32-bit head for 32-bit products sees their part without being told.
    if narrow || cfg!(target_arch = "x86") { reg::KEY_WOW64_32KEY } else { reg::KEY_WOW64_64KEY }
}

struct Key(reg::HKEY);

impl Drop for Key {
    fn drop(&mut self) {
        // SAFETY: the key is open and this is its only owner.
        unsafe { reg::RegCloseKey(self.0) };
    }
}

fn open(at: &At, access: u32) -> Option<Key> {
    let mut key = core::ptr::null_mut();
    // SAFETY: the name ends with a zero.
    let error =
        unsafe { reg::RegOpenKeyExW(root(at.machine), wide(&at.key).as_ptr(), 0, access | view(at.narrow), &mut key) };
    (error == 0).then_some(Key(key))
}

pub fn read(at: &At) -> Option<Data> {
    let key = open(at, reg::KEY_QUERY_VALUE)?;
    let name = wide(&at.name);
    let (mut kind, mut size) = (0, 0);
    // SAFETY: sizes are asked for first; the buffer has the size that was said.
    unsafe {
        let null = core::ptr::null_mut();
        if reg::RegQueryValueExW(key.0, name.as_ptr(), core::ptr::null(), &mut kind, null, &mut size) != 0 {
            return None;
        }
        let mut data = vec![0; size as usize];
        if reg::RegQueryValueExW(key.0, name.as_ptr(), core::ptr::null(), &mut kind, data.as_mut_ptr(), &mut size) != 0 {
            return None;
        }
        data.truncate(size as usize);
        Some((kind, data))
    }
}

pub fn set(at: &At, data: &Data) -> Result<()> {
    let mut key = core::ptr::null_mut();
    let access = reg::KEY_SET_VALUE | view(at.narrow);
    // SAFETY: names end with a zero; the data has as many bytes as is said.
    unsafe {
        let null = core::ptr::null_mut();
        let error = reg::RegCreateKeyExW(
            root(at.machine), wide(&at.key).as_ptr(), 0, core::ptr::null(), 0, access, core::ptr::null(), &mut key, null,
        );
        if error != 0 {
            return Err(Fault::of(&at.key, error));
        }
        let key = Key(key);
        let error =
            reg::RegSetValueExW(key.0, wide(&at.name).as_ptr(), 0, data.0, data.1.as_ptr(), data.1.len() as u32);
        if error != 0 { Err(Fault::of(&at.key, error)) } else { Ok(()) }
    }
}

/// Takes a value away.
pub fn remove(at: &At) -> Result<()> {
    if let Some(key) = open(at, reg::KEY_SET_VALUE) {
        // SAFETY: the name ends with a zero.
        let error = unsafe { reg::RegDeleteValueW(key.0, wide(&at.name).as_ptr()) };
        if error != 0 && error != 2 {
            return Err(Fault::of(&at.key, error));
        }
    }
    Ok(())
}

/// The keys above a value that are not there yet, the topmost first, its own key last.
pub fn missing_keys(at: &At) -> Vec<String> {
    let mut missing = Vec::new();
    let mut now = at.key.as_str();
    loop {
        if open(&At { key: now.into(), ..at.clone() }, reg::KEY_QUERY_VALUE).is_some() {
            break;
        }
        missing.push(String::from(now));
        match now.rsplit_once('\\') {
            Some((parent, _)) => now = parent,
            None => break,
        }
    }
    missing.reverse();
    missing
}

/// Makes a key.
pub fn make_key(at: &At) -> Result<()> {
    let mut key = core::ptr::null_mut();
    let access = reg::KEY_QUERY_VALUE | view(at.narrow);
    // SAFETY: the name ends with a zero.
    let error = unsafe {
        reg::RegCreateKeyExW(
            root(at.machine), wide(&at.key).as_ptr(), 0, core::ptr::null(), 0, access, core::ptr::null(), &mut key,
            core::ptr::null_mut(),
        )
    };
    if error != 0 {
        return Err(Fault::of(&at.key, error));
    }
    drop(Key(key));
    Ok(())
}

/// Takes a key away if nothing is in it.
pub fn remove_key(at: &At) {
    if is_empty(at) {
        // SAFETY: the name ends with a zero.
        unsafe { reg::RegDeleteKeyExW(root(at.machine), wide(&at.key).as_ptr(), view(at.narrow), 0) };
    }
}

fn is_empty(at: &At) -> bool {
    let Some(key) = open(at, reg::KEY_QUERY_VALUE | reg::KEY_ENUMERATE_SUB_KEYS) else { return false };
    let (mut keys, mut values) = (0, 0);
    let null = core::ptr::null_mut();
    // SAFETY: what is not wanted is null.
    let error = unsafe {
        reg::RegQueryInfoKeyW(
            key.0, core::ptr::null_mut(), null, core::ptr::null(), &mut keys, null, null, &mut values, null, null, null,
            core::ptr::null_mut(),
        )
    };
    error == 0 && keys == 0 && values == 0
}
