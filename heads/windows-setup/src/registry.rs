//! The registry: values read, set and taken away, in both views.

use crate::system::{Fault, Result};
use crate::text::{Text, EMPTY};
use alloc::boxed::Box;
use alloc::vec;
use alloc::vec::Vec;
use core::ops::Deref;
use core::ptr::{null, null_mut};
use windows_sys::Win32::System::Registry as reg;

/// Where a value stands.
pub struct Place {
    /// The machine's part, or the user's.
    pub machine: bool,
    /// The part that 32-bit programs see.
    pub narrow: bool,
    pub key: Text,
    pub name: Text,
}

/// Such a place in one word of memory; it is never given back.
#[derive(Clone, Copy)]
pub struct At(&'static Place);

impl Deref for At {
    type Target = Place;
    fn deref(&self) -> &Place {
        self.0
    }
}

impl At {
    pub fn of(machine: bool, narrow: bool, key: Text, name: Text) -> Self {
        Self(Box::leak(Box::new(Place { machine, narrow, key, name })))
    }

    pub fn new(machine: bool, key: Text, name: Text) -> Self {
        Self::of(machine, false, key, name)
    }

    /// The key itself.
    pub fn of_key(self, key: Text) -> Self {
        Self::of(self.machine, self.narrow, key, EMPTY)
    }

    pub fn same(self, other: Self) -> bool {
        self.machine == other.machine
            && self.narrow == other.narrow
            && self.key.same(other.key)
            && self.name.same(other.name)
    }
}

/// A value's type and its bytes.
#[derive(PartialEq, Eq)]
pub struct Value {
    pub kind: u32,
    pub bytes: Vec<u8>,
}

/// A value in one word of memory; it is never given back.
#[derive(Clone, Copy, PartialEq, Eq)]
pub struct Data(&'static Value);

impl Deref for Data {
    type Target = Value;
    fn deref(&self) -> &Value {
        self.0
    }
}

impl Data {
    pub fn new(kind: u32, bytes: Vec<u8>) -> Self {
        Self(Box::leak(Box::new(Value { kind, bytes })))
    }

    fn of_units(kind: u32, units: &[u16]) -> Self {
        let mut bytes = Vec::with_capacity(units.len() * 2);
        for unit in units {
            bytes.extend_from_slice(&unit.to_le_bytes());
        }
        Self::new(kind, bytes)
    }

    pub fn of_text(kind: u32, text: Text) -> Self {
        let mut units = text.units().to_vec();
        units.push(0);
        Self::of_units(kind, &units)
    }

    pub fn text(text: Text) -> Self {
        Self::of_text(reg::REG_SZ, text)
    }

    pub fn number(value: u32) -> Self {
        Self::new(reg::REG_DWORD, value.to_le_bytes().to_vec())
    }

    pub fn list(texts: &[Text]) -> Self {
        let mut units = Vec::new();
        for text in texts {
            units.extend_from_slice(text.units());
            units.push(0);
        }
        units.push(0);
        Self::of_units(reg::REG_MULTI_SZ, &units)
    }

    /// A list's texts.
    pub fn as_list(self) -> Vec<Text> {
        let mut units: Vec<u16> = Vec::with_capacity(self.bytes.len() / 2);
        for pair in self.bytes.chunks_exact(2) {
            units.push(u16::from_le_bytes([pair[0], pair[1]]));
        }
        let mut all = Vec::new();
        for text in units.split(|u| *u == 0) {
            if !text.is_empty() {
                all.push(Text::of(text));
            }
        }
        all
    }

    /// A text's value.
    pub fn as_text(self) -> Text {
        self.as_list().first().copied().unwrap_or(EMPTY)
    }
}

fn root(machine: bool) -> reg::HKEY {
    if machine {
        reg::HKEY_LOCAL_MACHINE
    } else {
        reg::HKEY_CURRENT_USER
    }
}

fn view(narrow: bool) -> u32 {
    // A 32-bit head for 32-bit products sees their part without being told.
    if narrow || cfg!(target_arch = "x86") {
        reg::KEY_WOW64_32KEY
    } else {
        reg::KEY_WOW64_64KEY
    }
}

struct Key(reg::HKEY);

impl Drop for Key {
    fn drop(&mut self) {
        // SAFETY: the key is open and this is its only owner.
        unsafe { reg::RegCloseKey(self.0) };
    }
}

fn open(at: At, access: u32) -> Option<Key> {
    let mut key = null_mut();
    // SAFETY: the name ends with a zero.
    let error = unsafe { reg::RegOpenKeyExW(root(at.machine), at.key.ptr(), 0, access | view(at.narrow), &mut key) };
    (error == 0).then_some(Key(key))
}

fn create(at: At, access: u32) -> Result<Key> {
    let mut key = null_mut();
    let access = access | view(at.narrow);
    // SAFETY: the name ends with a zero.
    let error = unsafe {
        reg::RegCreateKeyExW(root(at.machine), at.key.ptr(), 0, null(), 0, access, null(), &mut key, null_mut())
    };
    if error == 0 {
        Ok(Key(key))
    } else {
        Err(Fault::of(at.key, error))
    }
}

pub fn read(at: At) -> Option<Data> {
    let key = open(at, reg::KEY_QUERY_VALUE)?;
    let (mut kind, mut size) = (0, 0);
    // SAFETY: sizes are asked for first; the buffer has the size that was said.
    unsafe {
        if reg::RegQueryValueExW(key.0, at.name.ptr(), null(), &mut kind, null_mut(), &mut size) != 0 {
            return None;
        }
        let mut data = vec![0; size as usize];
        if reg::RegQueryValueExW(key.0, at.name.ptr(), null(), &mut kind, data.as_mut_ptr(), &mut size) != 0 {
            return None;
        }
        data.truncate(size as usize);
        Some(Data::new(kind, data))
    }
}

/// A text's value; nothing if there is none.
#[inline(never)]
pub fn text(machine: bool, key: Text, name: Text) -> Text {
    read(At::new(machine, key, name)).map_or(EMPTY, Data::as_text)
}

pub fn set(at: At, data: Data) -> Result<()> {
    let key = create(at, reg::KEY_SET_VALUE)?;
    // SAFETY: the name ends with a zero; the data has as many bytes as is said.
    let error = unsafe {
        reg::RegSetValueExW(key.0, at.name.ptr(), 0, data.kind, data.bytes.as_ptr(), data.bytes.len() as u32)
    };
    if error == 0 {
        Ok(())
    } else {
        Err(Fault::of(at.key, error))
    }
}

/// Takes a value away.
pub fn remove(at: At) -> Result<()> {
    if let Some(key) = open(at, reg::KEY_SET_VALUE) {
        // SAFETY: the name ends with a zero.
        let error = unsafe { reg::RegDeleteValueW(key.0, at.name.ptr()) };
        if error != 0 && error != 2 {
            return Err(Fault::of(at.key, error));
        }
    }
    Ok(())
}

/// The keys above a value that are not there yet, the topmost first, its own key last.
pub fn missing_keys(at: At) -> Vec<Text> {
    let mut missing = Vec::new();
    let mut now = at.key;
    while !now.is_empty() && open(at.of_key(now), reg::KEY_QUERY_VALUE).is_none() {
        missing.push(now);
        now = now.parent();
    }
    missing.reverse();
    missing
}

/// Makes a key.
pub fn make_key(at: At) -> Result<()> {
    create(at, reg::KEY_QUERY_VALUE).map(drop)
}

/// Takes a key away if nothing is in it.
pub fn remove_key(at: At) {
    if is_empty(at) {
        // SAFETY: the name ends with a zero.
        unsafe { reg::RegDeleteKeyExW(root(at.machine), at.key.ptr(), view(at.narrow), 0) };
    }
}

fn is_empty(at: At) -> bool {
    let Some(key) = open(at, reg::KEY_QUERY_VALUE | reg::KEY_ENUMERATE_SUB_KEYS) else { return false };
    let (mut keys, mut values) = (0, 0);
    let no = null_mut();
    // SAFETY: what is not wanted is null.
    let error = unsafe {
        reg::RegQueryInfoKeyW(key.0, null_mut(), no, null(), &mut keys, no, no, &mut values, no, no, no, null_mut())
    };
    error == 0 && keys == 0 && values == 0
}
