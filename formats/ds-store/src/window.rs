//! A folder's window as a plain description, and as records.

use crate::alias::Alias;
use crate::store::{Record, Value};
use crate::{Error, Result};
use plist::Dictionary;

/// Something in the folder, and where its symbol stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Item {
    /// Its name.
    pub name: String,
    /// The middle of its symbol, from the left edge of the window's contents, points.
    pub x: u32,
    /// The same from the upper edge.
    pub y: u32,
}

impl Item {
    /// An item.
    pub fn new(name: impl Into<String>, x: u32, y: u32) -> Self {
        Self { name: name.into(), x, y }
    }
}

/// How a window shows a folder: symbols at given places, on a picture.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Window {
    /// The upper left corner on the screen, points.
    pub place: (u32, u32),
    /// Width and height of its contents, points.
    pub size: (u32, u32),
    /// Width of a symbol, points.
    pub icon: u32,
    /// Height of the names' letters, points.
    pub text: u32,
    /// The picture behind all.
    pub background: Option<Alias>,
    /// What stands where.
    pub items: Vec<Item>,
}

impl Default for Window {
    fn default() -> Self {
        Self { place: (200, 120), size: (640, 400), icon: 128, text: 12, background: None, items: Vec::new() }
    }
}

/// What a symbol's place ends with: no place in a list.
const LOOSE: [u8; 8] = [0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0, 0];
/// Height of a window's title, which its bounds count in and its contents do not.
const TITLE: u32 = 28;

fn binary(list: Dictionary) -> Result<Value> {
    let mut bytes = Vec::new();
    let written = plist::Value::Dictionary(list).to_writer_binary(&mut bytes);
    written.map_err(|e| Error::Usage(e.to_string()))?;
    Ok(Value::Blob(bytes))
}

fn dictionary(value: &Value) -> Result<Dictionary> {
    let Value::Blob(bytes) = value else { return Err(Error::at(0, "the window's settings aren't data")) };
    let list = shallow_plist::value_of(bytes);
    let list = list.ok_or_else(|| Error::at(0, "the window's settings can't be read"))?;
    list.into_dictionary().ok_or_else(|| Error::at(0, "the window's settings aren't a dictionary"))
}

impl Window {
    /// As records of the folder's file.
    ///
    /// # Errors
    /// [`Error::Usage`] for what can't be written as a property list.
    pub fn records(&self) -> Result<Vec<Record>> {
        let of = |code: &[u8; 4], value: Value| Record { name: ".".into(), code: *code, value };
        let ((x, y), (width, height)) = (self.place, self.size);
        let mut look = Dictionary::new();
        for off in ["ContainerShowSidebar", "ShowPathbar", "ShowSidebar", "ShowStatusBar", "ShowTabView", "ShowToolbar"]
        {
            look.insert(off.into(), false.into());
        }
        look.insert("SidebarWidth".into(), 0.into());
        look.insert("WindowBounds".into(), format!("{{{{{x}, {y}}}, {{{width}, {}}}}}", height + TITLE).into());
        let mut view = Dictionary::new();
        let number = |n: u32| plist::Value::Real(n.into());
        view.insert("arrangeBy".into(), "none".into());
        for colour in ["backgroundColorBlue", "backgroundColorGreen", "backgroundColorRed"] {
            view.insert(colour.into(), number(1));
        }
        if let Some(alias) = &self.background {
            view.insert("backgroundImageAlias".into(), plist::Value::Data(alias.bytes()));
        }
        // 0 white, 1 a colour, 2 a picture.
        view.insert("backgroundType".into(), if self.background.is_some() { 2 } else { 1 }.into());
        for (key, n) in [
            ("gridOffsetX", 0),
            ("gridOffsetY", 0),
            ("gridSpacing", 100),
            ("iconSize", self.icon),
            ("scrollPositionX", 0),
            ("scrollPositionY", 0),
            ("textSize", self.text),
        ] {
            view.insert(key.into(), number(n));
        }
        view.insert("labelOnBottom".into(), true.into());
        view.insert("showIconPreview".into(), false.into());
        view.insert("showItemInfo".into(), false.into());
        view.insert("viewOptionsVersion".into(), 1.into());
        let mut records = vec![
            of(b"bwsp", binary(look)?),
            of(b"icvl", Value::Type(*b"icnv")),
            of(b"icvp", binary(view)?),
            of(b"vSrn", Value::Long(1)),
        ];
        for item in &self.items {
            let place = [&item.x.to_be_bytes()[..], &item.y.to_be_bytes(), &LOOSE].concat();
            records.push(Record { name: item.name.clone(), code: *b"Iloc", value: Value::Blob(place) });
        }
        Ok(records)
    }

    /// The window that records describe; what they don't say is as in [`Window::default`].
    ///
    /// # Errors
    /// [`Error::Format`] for settings that can't be read.
    pub fn of(records: &[Record]) -> Result<Self> {
        let mut window = Self::default();
        for record in records {
            match (&record.code, record.name.as_str()) {
                (b"bwsp", ".") => {
                    let look = dictionary(&record.value)?;
                    let bounds = look.get("WindowBounds").and_then(plist::Value::as_string).unwrap_or_default();
                    let numbers = bounds.split(['{', '}', ',', ' ']).filter(|n| !n.is_empty());
                    // Windows on a second screen begin at numbers below zero.
                    let numbers: Vec<u32> =
                        numbers.map_while(|n| n.parse::<f64>().ok()).map(|n| n.max(0.0) as u32).collect();
                    if let [x, y, width, height] = numbers[..] {
                        (window.place, window.size) = ((x, y), (width, height.saturating_sub(TITLE)));
                    }
                }
                (b"icvp", ".") => {
                    let view = dictionary(&record.value)?;
                    let number = |key: &str| {
                        let value = view.get(key)?;
                        let real = value.as_real().or_else(|| value.as_signed_integer().map(|n| n as f64))?;
                        Some(real.clamp(0.0, 10_000.0) as u32)
                    };
                    window.icon = number("iconSize").unwrap_or(window.icon);
                    window.text = number("textSize").unwrap_or(window.text);
                    let alias = view.get("backgroundImageAlias").and_then(plist::Value::as_data);
                    window.background = alias.map(Alias::read).transpose()?;
                }
                (b"Iloc", name) => {
                    if let Value::Blob(place) = &record.value
                        && let (Some(x), Some(y)) = (place.first_chunk::<4>(), place.get(4..8))
                    {
                        let y = u32::from_be_bytes(y.try_into().expect("four bytes"));
                        window.items.push(Item::new(name, u32::from_be_bytes(*x), y));
                    }
                }
                _ => {}
            }
        }
        Ok(window)
    }
}
