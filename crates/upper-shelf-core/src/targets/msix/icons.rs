//! The product's picture in the sizes that the system asks for, under plain names: without an index of resources it looks at no
//! others.

use crate::icons::Icon;

/// A picture in a package.
pub struct Picture {
    /// Its name, with slashes.
    pub name: &'static str,
    /// Pixels a side.
    pub size: u32,
}

/// The folder with the pictures, in small letters.
pub const FOLDER: &str = "packageicons";
/// Where the package itself is shown.
pub const LOGO: Picture = Picture { name: "PackageIcons/Logo.png", size: 50 };
/// In lists and in the taskbar.
pub const SMALL: Picture = Picture { name: "PackageIcons/Square44.png", size: 44 };
/// In the menu.
pub const MIDDLE: Picture = Picture { name: "PackageIcons/Square150.png", size: 150 };

/// All of them, with their bytes.
pub fn all(icon: &Icon) -> Vec<(&'static str, Vec<u8>)> {
    [LOGO, MIDDLE, SMALL].map(|picture| (picture.name, icon.png(picture.size))).into()
}
