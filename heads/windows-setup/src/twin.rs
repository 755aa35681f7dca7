//! The same product, installed by its Windows Installer package: found by its upgrade code, and replaced.

use crate::early::{system_folder, Library};
use crate::product::Product;
use crate::programs;
use crate::system::{code, Fault, Result};
use crate::text::{cat, number, path, t, Text, EMPTY};
use alloc::boxed::Box;
use alloc::vec::Vec;

/// `INSTALLSTATE_LOCAL`.
const LOCAL: i32 = 3;

type Related = unsafe extern "system" fn(*const u16, u32, u32, *mut u16) -> u32;
type Info = unsafe extern "system" fn(*const u16, *const u16, *mut u16, *mut u32) -> u32;
type Feature = unsafe extern "system" fn(*const u16, *const u16) -> i32;

/// What is known of it.
pub struct Twin {
    /// Its product code.
    code: Text,
    pub machine: bool,
    pub version: Text,
    pub folder: Text,
    library: Library,
}

impl Twin {
    /// Looks for it; none where there is none.
    pub fn find(product: &Product) -> Option<&'static Self> {
        let upgrade = product.rule(t!("upgrade-code"));
        if upgrade.is_empty() {
            return None;
        }
        let library = Library::load(t!("msi"))?;
        let mut buffer = [0u16; 39];
        // SAFETY: the functions have these forms ("MsiEnumRelatedProducts", "MsiGetProductInfo"); a product code has 38
        // letters.
        let code = unsafe {
            let related: Related = library.function(c"MsiEnumRelatedProductsW")?;
            if related(upgrade.ptr(), 0, 0, buffer.as_mut_ptr()) != 0 {
                return None;
            }
            Text::up_to_zero(&buffer)
        };
        let mut it = Self { code, machine: false, version: EMPTY, folder: EMPTY, library };
        it.machine = it.info(t!("AssignmentType")).is(t!("1"));
        it.version = it.info(t!("VersionString"));
        // A package for everyone writes the machine's part, and one for a user that user's.
        for machine in [true, false] {
            if let Some(folder) = crate::install::folder_of(product, machine) {
                (it.folder, it.machine) = (folder, machine);
                break;
            }
        }
        Some(Box::leak(Box::new(it)))
    }

    fn info(&self, property: Text) -> Text {
        let mut buffer = [0u16; 260];
        let mut length = buffer.len() as u32;
        // SAFETY: the function has this form, and the buffer the length that is said.
        unsafe {
            let Some(info) = self.library.function::<Info>(c"MsiGetProductInfoW") else { return EMPTY };
            if info(self.code.ptr(), property.ptr(), buffer.as_mut_ptr(), &mut length) != 0 {
                return EMPTY;
            }
        }
        Text::up_to_zero(&buffer)
    }

    /// Whether a part of the product is there.
    pub fn has(&self, choice: Text) -> bool {
        // Its features are named so: see the packages' own layout.
        let name = cat(&[t!("Choice."), choice.replace(t!("-"), t!("_"))]);
        // SAFETY: the function has this form ("MsiQueryFeatureState").
        unsafe {
            let query = self.library.function::<Feature>(c"MsiQueryFeatureStateW");
            query.is_some_and(|query| query(self.code.ptr(), name.ptr()) == LOCAL)
        }
    }

    /// Has Windows Installer remove it.
    pub fn remove(&self) -> Result<()> {
        let program = path(system_folder(), t!("msiexec.exe"));
        let line = cat(&[t!("/x "), self.code, t!(" /qn /norestart")]);
        match programs::run(program, line, EMPTY) {
            // Done; done but for a restart; it was not there any more.
            Some(0 | 3010 | 1605) => Ok(()),
            Some(1602) => Err(Fault::new(code::CANCELLED, EMPTY, EMPTY)),
            Some(other) => {
                let detail = cat(&[t!("Windows Installer ended with "), number(other)]);
                Err(Fault::new(code::FAILED, t!("setup-failed"), detail))
            }
            None => Err(Fault::last(program)),
        }
    }
}

/// Files that people may have changed, put aside while the twin goes: it would take them away with it.
pub struct Kept(Vec<(Text, Text)>);

impl Kept {
    pub fn put_aside(product: &Product, folder: Text, aside: Text) -> Result<Self> {
        let mut all = Vec::new();
        for file in product.files.iter().filter(|f| f.kept) {
            let place = path(folder, file.path);
            if crate::files::exists(place) {
                let to = path(aside, number(all.len() as u32));
                crate::files::copy(place, to)?;
                all.push((place, to));
            }
        }
        Ok(Self(all))
    }

    pub fn bring_back(&self) -> Result<()> {
        for (place, from) in &self.0 {
            crate::files::make_folders(place.parent())?;
            if !crate::files::exists(*place) {
                crate::files::copy(*from, *place)?;
            }
        }
        Ok(())
    }
}
