//! The product's own programs for Windows with its icon, name and version in them, so that the system shows these in
//! its folders and dialogs.

use super::{Payload, PayloadFile, Source};
use crate::footprint::{Identity, RelPath};
use crate::icons::Icon;
use crate::problem::{Code, Problem};
use pe_image::{Image, Version, set_icon};
use std::collections::BTreeMap;

/// A program is held in memory while it is changed.
const MOST: u64 = 512 << 20;

/// Brands the program at a path of the payload; a signature that it has may go only if that was said. Gives what is wrong,
/// or noteworthy.
pub fn brand(
    payload: &mut Payload,
    path: &RelPath,
    product: &Identity,
    icon: &Icon,
    may_drop_signature: bool,
) -> Vec<Problem> {
    // A path that is not there is said where programs are checked.
    let Some(file) = payload.files.iter_mut().find(|f| f.path == *path) else { return Vec::new() };
    match branded(file, product, icon) {
        Err(problem) => vec![*problem],
        Ok((_, true)) if !may_drop_signature => {
            let problem = Problem::error(Code::SignatureDropped, format!("{path} is signed"));
            let problem = problem.why("a different icon and version in the file make its signature invalid");
            vec![problem.instead("remove `brand`, or drop-signature = true")]
        }
        Ok((bytes, was_signed)) => {
            let old = std::mem::replace(&mut file.size, bytes.len() as u64);
            file.source = Source::Memory(bytes.into());
            if let Some(share) = payload.shares.get_mut(file.layer) {
                share.bytes = share.bytes - old + file.size;
            }
            let problem = Problem::warning(Code::SignatureDropped, format!("the signature in {path} is removed"));
            let problem = problem.why("a different icon and version in the file make it invalid");
            was_signed.then(|| problem.instead("[signing.windows] names a key for another one")).into_iter().collect()
        }
    }
}

/// The program with the product's icon and version, and whether it had a signature.
fn branded(file: &PayloadFile, product: &Identity, icon: &Icon) -> Result<(Vec<u8>, bool), Box<Problem>> {
    let problem = |why: String| {
        let problem = Problem::error(Code::Program, format!("the program {} can't be branded", file.path)).why(why);
        Box::new(problem.instead("remove `brand`"))
    };
    if file.size > MOST {
        return Err(problem(format!("it has more than {} megabytes", MOST >> 20)));
    }
    let bytes = file.bytes().map_err(|e| problem(e.to_string()))?;
    let bad = |e: pe_image::Error| problem(e.to_string());
    let image = Image::parse(&bytes).map_err(bad)?;
    let mut resources = image.resources().map_err(bad)?;
    let picture = icon.ico().map_err(|e| problem(e.to_string()))?;
    set_icon(&mut resources, &picture).map_err(bad)?;
    product_version(file.path.name(), product).put(&mut resources);
    Ok((image.with_resources(&resources).map_err(bad)?, image.is_signed()))
}

/// Makes a program one for a terminal.
pub(crate) fn for_terminal(program: &mut [u8]) {
    const TERMINAL: [u8; 2] = 3u16.to_le_bytes();
    if let Some(at) = Image::parse(program).ok().map(|image| image.subsystem_at())
        && let Some(bytes) = program.get_mut(at..at + 2)
    {
        bytes.copy_from_slice(&TERMINAL);
        // It was a program a moment ago.
        let _ = pe_image::set_checksum(&mut std::io::Cursor::new(program));
    }
}

/// What a program of the product says of itself.
pub(crate) fn product_version(name: &str, product: &Identity) -> Version {
    let text = |value: &Option<String>| value.clone().unwrap_or_default();
    let version = text(&product.version);
    // As far as it consists of numbers.
    let mut numbers = version.split(['.', '-', '+']).map_while(|part| part.parse().ok());
    let numbers = std::array::from_fn(|_| numbers.next().unwrap_or(0));
    let summary = product.summary.as_ref().map_or_else(|| text(&product.name), |s| s.as_str().to_owned());
    let texts = [
        ("CompanyName", text(&product.publisher)),
        ("FileDescription", summary),
        ("FileVersion", version.clone()),
        ("InternalName", name.rsplit_once('.').map_or(name, |(stem, _)| stem).to_owned()),
        ("OriginalFilename", name.to_owned()),
        ("ProductName", text(&product.name)),
        ("ProductVersion", version),
    ];
    let texts: BTreeMap<String, String> = texts.into_iter().map(|(key, value)| (key.to_owned(), value)).collect();
    Version { file: numbers, product: numbers, texts }
}
