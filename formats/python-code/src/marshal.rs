//! Python's own form of objects, as far as compiled modules have them.

use format_error::{Error, Result};
use std::rc::Rc;

/// Objects lie in each other no deeper than this.
const DEEPEST: usize = 200;
/// A module has no more objects than this.
const MOST: usize = 1 << 21;

/// An object.
#[derive(Debug, Clone)]
pub enum Object {
    /// A number that fits.
    Number(i32),
    /// A text.
    Text(Rc<str>),
    /// Bytes.
    Bytes(Rc<[u8]>),
    /// A tuple, list or set.
    Several(Rc<[Object]>),
    /// Code.
    Code(Rc<Code>),
    /// Whatever says nothing of imports.
    Other,
}

/// The code of a module, class or function.
#[derive(Debug, Clone)]
pub struct Code {
    /// Its instructions.
    pub instructions: Rc<[u8]>,
    /// Its constants.
    pub constants: Rc<[Object]>,
    /// The names that it uses.
    pub names: Rc<[Object]>,
}

/// Reads objects one after the other.
pub struct Reader<'b> {
    bytes: &'b [u8],
    at: usize,
    references: Vec<Object>,
    count: usize,
    /// Whether code has the form that Python 3.11 introduced.
    is_since_11: bool,
}

impl<'b> Reader<'b> {
    pub fn new(bytes: &'b [u8], is_since_11: bool) -> Self {
        Self { bytes, at: 0, references: Vec::new(), count: 0, is_since_11 }
    }

    fn wrong(&self, what: impl Into<String>) -> Error {
        Error::at(self.at, what)
    }

    fn take(&mut self, count: usize) -> Result<&'b [u8]> {
        let end = self.at.checked_add(count).filter(|end| *end <= self.bytes.len());
        let end = end.ok_or_else(|| self.wrong("it ends too early"))?;
        let some = &self.bytes[self.at..end];
        self.at = end;
        Ok(some)
    }

    fn byte(&mut self) -> Result<u8> {
        Ok(self.take(1)?[0])
    }

    fn number(&mut self) -> Result<i32> {
        let some = self.take(4)?;
        Ok(i32::from_le_bytes([some[0], some[1], some[2], some[3]]))
    }

    fn length(&mut self) -> Result<usize> {
        let length = self.number()?;
        usize::try_from(length).map_err(|_| self.wrong(format!("{length} is no length")))
    }

    fn text(&mut self, length: usize) -> Result<Object> {
        Ok(Object::Text(String::from_utf8_lossy(self.take(length)?).into()))
    }

    fn several(&mut self, count: usize, depth: usize) -> Result<Object> {
        // Each takes a byte at least.
        if count > self.bytes.len() - self.at {
            return Err(self.wrong("it ends too early"));
        }
        let all = (0..count).map(|_| self.object(depth + 1)).collect::<Result<Vec<_>>>()?;
        Ok(Object::Several(all.into()))
    }

    fn code(&mut self, depth: usize) -> Result<Object> {
        let numbers = if self.is_since_11 { 5 } else { 6 };
        self.take(4 * numbers)?;
        let next = |reader: &mut Self| reader.object(depth + 1);
        let (instructions, constants, names) = (next(self)?, next(self)?, next(self)?);
        for _ in 0..5 {
            next(self)?;
        }
        self.take(4)?;
        for _ in 0..if self.is_since_11 { 2 } else { 1 } {
            next(self)?;
        }
        match (instructions, constants, names) {
            (Object::Bytes(instructions), Object::Several(constants), Object::Several(names)) => {
                Ok(Object::Code(Rc::new(Code { instructions, constants, names })))
            }
            _ => Err(self.wrong("code without its instructions, constants and names")),
        }
    }

    /// The next object.
    ///
    /// # Errors
    /// It is damaged, or of a kind that compiled modules don't have.
    pub fn object(&mut self, depth: usize) -> Result<Object> {
        self.count += 1;
        if depth > DEEPEST || self.count > MOST {
            return Err(Error::Limit("it has more objects in each other, or in all, than any module".into()));
        }
        let head = self.byte()?;
        let (kind, is_referred_to) = (head & 0x7f, head & 0x80 != 0);
        // Those that others lie in have their number before these.
        let place = is_referred_to.then(|| {
            self.references.push(Object::Other);
            self.references.len() - 1
        });
        let object = match kind {
            b'r' => {
                let number = self.length()?;
                let found = self.references.get(number).cloned();
                return found.ok_or_else(|| self.wrong(format!("there is no object number {number}")));
            }
            b'0' | b'N' | b'F' | b'T' | b'S' | b'.' => Object::Other,
            b'i' => Object::Number(self.number()?),
            b'l' => {
                let digits = self.number()?.unsigned_abs() as usize;
                self.take(digits.saturating_mul(2))?;
                Object::Other
            }
            b'g' => self.take(8).map(|_| Object::Other)?,
            b'y' => self.take(16).map(|_| Object::Other)?,
            b's' => {
                let length = self.length()?;
                Object::Bytes(self.take(length)?.into())
            }
            b'u' | b'a' | b'A' | b't' => {
                let length = self.length()?;
                self.text(length)?
            }
            b'z' | b'Z' => {
                let length = self.byte()?;
                self.text(length.into())?
            }
            b')' => {
                let count = self.byte()?;
                self.several(count.into(), depth)?
            }
            b'(' | b'[' | b'<' | b'>' => {
                let count = self.length()?;
                self.several(count, depth)?
            }
            b':' => {
                // A slice: three objects.
                self.several(3, depth)?
            }
            b'c' => self.code(depth)?,
            other => return Err(self.wrong(format!("there is no kind of object {:?}", char::from(other)))),
        };
        if let Some(place) = place {
            self.references[place] = object.clone();
        }
        Ok(object)
    }
}
