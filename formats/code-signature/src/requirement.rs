//! How code will be known again: an expression that later versions have to fulfil, too.

use crate::blobs::{magic, u32_at, with_magic};
use crate::{CdHash, Error, Result};
use std::fmt;

/// An expression. What is written here is read; of what others write, only these operations are known.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Requirement {
    /// The code calls itself so.
    Identifier(String),
    /// Apple is the root of its certificates.
    Apple,
    /// The certificate at a place of the chain (0: the signer's) has this SHA-1.
    Certificate(i32, [u8; 20]),
    /// That certificate has a field with a value.
    Field(i32, String, String),
    /// That certificate has an extension, by the bytes of its number.
    Extension(i32, Vec<u8>),
    /// It is this very code.
    Code(CdHash),
    /// Both are fulfilled.
    And(Box<Requirement>, Box<Requirement>),
    /// One of them is.
    Or(Box<Requirement>, Box<Requirement>),
}

mod op {
    pub const IDENTIFIER: u32 = 2;
    pub const CERTIFICATE: u32 = 4;
    pub const AND: u32 = 6;
    pub const OR: u32 = 7;
    pub const CODE: u32 = 8;
    pub const FIELD: u32 = 11;
    pub const EXTENSION: u32 = 14;
    pub const APPLE: u32 = 15;
    /// How a value is compared: it is there; it is the same.
    pub const EXISTS: u32 = 0;
    pub const EQUAL: u32 = 1;
}

/// The kind of a requirement that says how code is known again.
const DESIGNATED: u32 = 3;
/// Expressions that are nested deeper are not read.
const DEEPEST: usize = 64;

/// `1.2.840.113635.100.6.2.6`: an authority for Developer IDs.
const DEVELOPER_AUTHORITY: [u8; 10] = [0x2A, 0x86, 0x48, 0x86, 0xF7, 0x63, 0x64, 0x06, 0x02, 0x06];
/// `1.2.840.113635.100.6.1.13`: a Developer ID for programs.
pub(crate) const DEVELOPER: [u8; 10] = [0x2A, 0x86, 0x48, 0x86, 0xF7, 0x63, 0x64, 0x06, 0x01, 0x0D];

fn counted(bytes: &[u8]) -> Vec<u8> {
    let mut out = (bytes.len() as u32).to_be_bytes().to_vec();
    out.extend(bytes);
    out.resize(out.len().next_multiple_of(4), 0);
    out
}

impl Requirement {
    /// Both.
    pub fn and(self, other: Self) -> Self {
        Self::And(Box::new(self), Box::new(other))
    }

    /// That of code which a certificate signed that Apple knows nothing of: its name, and this very certificate.
    pub fn of_certificate(identifier: &str, sha1: [u8; 20]) -> Self {
        Self::Identifier(identifier.to_owned()).and(Self::Certificate(0, sha1))
    }

    /// That of code which somebody with a Developer ID signed: its name, Apple's authorities, and whose it is.
    pub fn of_developer(identifier: &str, team: &str) -> Self {
        Self::Identifier(identifier.to_owned())
            .and(Self::Apple)
            .and(Self::Extension(1, DEVELOPER_AUTHORITY.to_vec()))
            .and(Self::Extension(0, DEVELOPER.to_vec()))
            .and(Self::Field(0, "subject.OU".into(), team.to_owned()))
    }

    /// That of code which nobody signed: itself, for each processor.
    pub fn of_code(all: &[CdHash]) -> Option<Self> {
        let mut all = all.iter().map(|hash| Self::Code(*hash));
        let first = all.next()?;
        Some(all.fold(first, |one, other| Self::Or(Box::new(one), Box::new(other))))
    }

    fn expression(&self, out: &mut Vec<u8>) {
        let number = |out: &mut Vec<u8>, number: u32| out.extend(number.to_be_bytes());
        match self {
            Self::Identifier(name) => {
                number(out, op::IDENTIFIER);
                out.extend(counted(name.as_bytes()));
            }
            Self::Apple => number(out, op::APPLE),
            Self::Certificate(place, sha1) => {
                number(out, op::CERTIFICATE);
                out.extend(place.to_be_bytes());
                out.extend(counted(sha1));
            }
            Self::Field(place, name, value) => {
                number(out, op::FIELD);
                out.extend(place.to_be_bytes());
                out.extend(counted(name.as_bytes()));
                number(out, op::EQUAL);
                out.extend(counted(value.as_bytes()));
            }
            Self::Extension(place, oid) => {
                number(out, op::EXTENSION);
                out.extend(place.to_be_bytes());
                out.extend(counted(oid));
                number(out, op::EXISTS);
            }
            Self::Code(hash) => {
                number(out, op::CODE);
                out.extend(counted(hash));
            }
            Self::And(one, other) | Self::Or(one, other) => {
                number(out, if matches!(self, Self::And(..)) { op::AND } else { op::OR });
                one.expression(out);
                other.expression(out);
            }
        }
    }

    /// The part of a signature with this one in it.
    pub fn to_bytes(&self) -> Vec<u8> {
        let mut expression = 1u32.to_be_bytes().to_vec();
        self.expression(&mut expression);
        let own = with_magic(magic::REQUIREMENT, &expression);
        let index: Vec<u8> = [1, DESIGNATED, 20].iter().flat_map(|number: &u32| number.to_be_bytes()).collect();
        with_magic(magic::REQUIREMENTS, &[index, own].concat())
    }

    /// The part of a signature without any, as code has that nobody signed.
    pub fn none() -> Vec<u8> {
        with_magic(magic::REQUIREMENTS, &0u32.to_be_bytes())
    }

    /// The one in a part of a signature by which code is known again, if there is one.
    ///
    /// # Errors
    /// [`Error::Format`] for what is malformed; [`Error::Unsupported`] for operations that are not known here.
    pub fn read(part: &[u8]) -> Result<Option<Self>> {
        if u32_at(part, 0)? != magic::REQUIREMENTS {
            return Err(Error::format(0, "not a set of requirements"));
        }
        for n in 0..u32_at(part, 8)?.min(16) as usize {
            if u32_at(part, 12 + 8 * n)? != DESIGNATED {
                continue;
            }
            let at = u32_at(part, 16 + 8 * n)? as usize;
            if u32_at(part, at)? != magic::REQUIREMENT || u32_at(part, at.saturating_add(8))? != 1 {
                return Err(Error::Unsupported("a requirement of another form".into()));
            }
            let mut reader = Reader { bytes: part, at: at + 12 };
            return reader.expression(0).map(Some);
        }
        Ok(None)
    }
}

struct Reader<'b> {
    bytes: &'b [u8],
    at: usize,
}

impl Reader<'_> {
    fn number(&mut self) -> Result<u32> {
        let number = u32_at(self.bytes, self.at)?;
        self.at += 4;
        Ok(number)
    }

    fn counted(&mut self) -> Result<Vec<u8>> {
        let length = self.number()? as usize;
        let end = self.at.checked_add(length);
        let bytes = end.and_then(|end| self.bytes.get(self.at..end));
        let bytes = bytes.ok_or_else(|| Error::format(self.at as u64, "a requirement is cut off"))?.to_vec();
        self.at += length.next_multiple_of(4);
        Ok(bytes)
    }

    fn text(&mut self) -> Result<String> {
        Ok(String::from_utf8_lossy(&self.counted()?).into_owned())
    }

    fn digest(&mut self) -> Result<[u8; 20]> {
        let at = self.at as u64;
        self.counted()?.try_into().map_err(|_| Error::format(at, "a digest in a requirement is no SHA-1"))
    }

    fn expression(&mut self, depth: usize) -> Result<Requirement> {
        if depth > DEEPEST {
            return Err(Error::Limit("a requirement that is nested very deeply".into()));
        }
        let kind = self.number()?;
        Ok(match kind {
            op::IDENTIFIER => Requirement::Identifier(self.text()?),
            op::APPLE => Requirement::Apple,
            op::CERTIFICATE => Requirement::Certificate(self.number()? as i32, self.digest()?),
            op::CODE => Requirement::Code(self.digest()?),
            op::FIELD => {
                let (place, name) = (self.number()? as i32, self.text()?);
                match self.number()? {
                    op::EQUAL => Requirement::Field(place, name, self.text()?),
                    other => return Err(Error::Unsupported(format!("a comparison {other} in a requirement"))),
                }
            }
            op::EXTENSION => {
                let (place, oid) = (self.number()? as i32, self.counted()?);
                match self.number()? {
                    op::EXISTS => Requirement::Extension(place, oid),
                    other => return Err(Error::Unsupported(format!("a comparison {other} in a requirement"))),
                }
            }
            op::AND | op::OR => {
                let (one, other) = (self.expression(depth + 1)?, self.expression(depth + 1)?);
                let (one, other) = (Box::new(one), Box::new(other));
                if kind == op::AND { Requirement::And(one, other) } else { Requirement::Or(one, other) }
            }
            other => return Err(Error::Unsupported(format!("an operation {other} in a requirement"))),
        })
    }
}

/// `1.2.840` of the bytes of a number.
fn dotted(oid: &[u8]) -> String {
    let mut all = Vec::new();
    let mut number = 0u64;
    for byte in oid {
        number = number.wrapping_shl(7) | u64::from(byte & 0x7F);
        if byte & 0x80 == 0 {
            if all.is_empty() {
                let first = (number / 40).min(2);
                all.extend([first, number - first * 40]);
            } else {
                all.push(number);
            }
            number = 0;
        }
    }
    all.iter().map(u64::to_string).collect::<Vec<_>>().join(".")
}

fn digits(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

/// The language in which seals have it.
impl fmt::Display for Requirement {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let certificate = |place: &i32| match place {
            0 => "leaf".to_owned(),
            -1 => "root".to_owned(),
            other => other.to_string(),
        };
        match self {
            Self::Identifier(name) => write!(f, "identifier \"{}\"", name.replace(['"', '\\'], "")),
            Self::Apple => f.write_str("anchor apple generic"),
            Self::Certificate(place, sha1) => write!(f, "certificate {} = H\"{}\"", certificate(place), digits(sha1)),
            Self::Field(place, name, value) => {
                write!(f, "certificate {}[{name}] = \"{}\"", certificate(place), value.replace(['"', '\\'], ""))
            }
            Self::Extension(place, oid) => {
                write!(f, "certificate {}[field.{}] /* exists */", certificate(place), dotted(oid))
            }
            Self::Code(hash) => write!(f, "cdhash H\"{}\"", digits(hash)),
            Self::And(one, other) => {
                let side = |side: &Self| match side {
                    Self::Or(..) => format!("({side})"),
                    _ => side.to_string(),
                };
                write!(f, "{} and {}", side(one), side(other))
            }
            Self::Or(one, other) => write!(f, "{one} or {other}"),
        }
    }
}
