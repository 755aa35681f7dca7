//! What code may do beyond what all code may: a property list, and the same in DER, which newer systems read.

use crate::blobs::{content_of, magic, with_magic};
use crate::{Error, Result};
use plist::{Dictionary, Value};

/// What code may do.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Entitlements(pub Dictionary);

/// The longest list that is read.
const LONGEST: usize = 1 << 20;

fn tagged(tag: u8, content: &[u8]) -> Vec<u8> {
    let mut out = vec![tag];
    let length = content.len();
    if length < 0x80 {
        out.push(length as u8);
    } else {
        let digits: Vec<u8> = length.to_be_bytes().into_iter().skip_while(|b| *b == 0).collect();
        out.push(0x80 | digits.len() as u8);
        out.extend(digits);
    }
    out.extend(content);
    out
}

fn integer(number: i128) -> Vec<u8> {
    let bytes = number.to_be_bytes();
    // As few bytes as show the sign.
    let spare = |at: usize| bytes[at] == 0 && bytes[at + 1] < 0x80 || bytes[at] == 0xFF && bytes[at + 1] >= 0x80;
    let from = (0..bytes.len() - 1).find(|at| !spare(*at)).unwrap_or(bytes.len() - 1);
    tagged(2, &bytes[from..])
}

fn der(value: &Value) -> std::result::Result<Vec<u8>, &'static str> {
    Ok(match value {
        Value::Boolean(yes) => tagged(1, &[if *yes { 0xFF } else { 0 }]),
        Value::Integer(number) => {
            integer(number.as_signed().map(i128::from).or(number.as_unsigned().map(i128::from)).unwrap_or(0))
        }
        Value::String(text) => tagged(0x0C, text.as_bytes()),
        Value::Array(all) => {
            let all: std::result::Result<Vec<_>, _> = all.iter().map(der).collect();
            tagged(0x30, &all?.concat())
        }
        Value::Dictionary(all) => dictionary(all)?,
        _ => return Err("texts, whole numbers, yes and no, lists and tables of these are what it may be"),
    })
}

fn dictionary(all: &Dictionary) -> std::result::Result<Vec<u8>, &'static str> {
    let mut keys: Vec<_> = all.iter().collect();
    keys.sort_by(|a, b| a.0.as_bytes().cmp(b.0.as_bytes()));
    let pair = |(key, value): (&String, &Value)| {
        Ok::<_, &'static str>(tagged(0x30, &[tagged(0x0C, key.as_bytes()), der(value)?].concat()))
    };
    let pairs: std::result::Result<Vec<_>, _> = keys.into_iter().map(pair).collect();
    Ok(tagged(0xB0, &pairs?.concat()))
}

impl Entitlements {
    /// Those in a property list.
    ///
    /// # Errors
    /// [`Error::Usage`] for what is none, or holds what can't be one.
    pub fn from_list(bytes: &[u8]) -> Result<Self> {
        let usage = |what: &str| Error::Usage(what.to_owned());
        if bytes.len() > LONGEST {
            return Err(usage("a list of entitlements is never that long"));
        }
        let value = shallow_plist::value_of(bytes).ok_or_else(|| usage("it is no property list"))?;
        let all = value.into_dictionary().ok_or_else(|| usage("its outermost value is no dictionary"))?;
        for (key, value) in &all {
            der(value).map_err(|why| Error::Usage(format!("{key} can't be an entitlement: {why}")))?;
        }
        Ok(Self(all))
    }

    /// Both parts of a signature, in the order of [`slot`](crate::slot).
    pub fn to_parts(&self) -> [Vec<u8>; 2] {
        let mut sorted: Vec<_> = self.0.iter().map(|(key, value)| (key.clone(), value.clone())).collect();
        sorted.sort_by(|a, b| a.0.cmp(&b.0));
        let mut list = Vec::new();
        // Writing into memory can't fail, and values of other kinds were refused.
        let _ = Value::Dictionary(sorted.into_iter().collect()).to_writer_xml(&mut list);
        list.push(b'\n');
        let body = dictionary(&self.0).unwrap_or_default();
        let der = tagged(0x70, &[vec![2, 1, 1], body].concat());
        [with_magic(magic::ENTITLEMENTS, &list), with_magic(magic::ENTITLEMENTS_DER, &der)]
    }

    /// Those in the first of the two parts.
    ///
    /// # Errors
    /// As [`from_list`](Self::from_list).
    pub fn read(part: &[u8]) -> Result<Self> {
        Self::from_list(content_of(part))
    }

    /// Whether the second part says the same as the first.
    pub fn fits(&self, der: &[u8]) -> bool {
        self.to_parts()[1] == der
    }
}
