//! What an elevated run takes from records. Whoever may write a record could have it remove or replace anything with an
//! administrator's rights: so an elevated run takes whole only what only administrators can write (the machine's part of
//! the registry, and what is sealed there). Of anything else it takes what can do no harm: files of the product's own
//! folder, and values and keys of the product's own.

fn lower(unit: u16) -> u16 {
    if (65..=90).contains(&unit) {
        unit + 32
    } else {
        unit
    }
}

fn begins(text: &[u16], with: &[u16]) -> bool {
    text.len() >= with.len() && text.iter().zip(with).all(|(a, b)| lower(*a) == lower(*b))
}

/// Whether a path is below a folder, without a step upwards.
pub fn is_below(path: &[u16], folder: &[u16]) -> bool {
    !folder.is_empty()
        && begins(path, folder)
        && path.get(folder.len()) == Some(&u16::from(b'\\'))
        && crate::path::stays_inside(&path[folder.len() + 1..])
}

/// What a run knows of where a record came from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Origin {
    /// The run has an administrator's rights that other programs of this user don't have.
    pub elevated: bool,
    /// The installation is the machine's, as the machine's part of the registry says.
    pub machine: bool,
    /// What is sealed in the machine's part of the registry is what was read; `None` without a seal.
    pub sealed: Option<bool>,
    /// It lies in the system's folder of programs, where only administrators can write.
    pub in_programs: bool,
}

/// How far something that was read can be trusted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Trust {
    /// It is followed.
    Whole,
    /// Only what can do no harm is taken.
    Own,
}

/// How far a record, or a journal, is trusted.
pub fn of(origin: Origin) -> Trust {
    let Origin { elevated, machine, sealed, in_programs } = origin;
    match (elevated, machine, sealed) {
        // Whoever could have written it could do the same without this run.
        (false, ..) => Trust::Whole,
        (true, false, _) | (true, true, Some(false)) => Trust::Own,
        (true, true, Some(true)) => Trust::Whole,
        // Written before there were seals.
        (true, true, None) if in_programs => Trust::Whole,
        (true, true, None) => Trust::Own,
    }
}
