//! The scripts in the tar for Linux. They need a POSIX shell and nothing else; whatever they put somewhere they write
//! down first, so that uninstalling takes away exactly that. Files are brought close to their places before anything is
//! changed; then only names change, and what was interrupted is undone by the next run.

use crate::footprint::Footprint;
use crate::footprint::file_name_of;

/// A word for the shell.
fn word(text: &str) -> String {
    format!("'{}'", text.replace('\'', "'\\''"))
}

fn head(footprint: &Footprint, what: &str) -> String {
    let p = &footprint.product;
    let text = |v: &Option<String>| v.clone().unwrap_or_default();
    let command = file_name_of(&text(&p.name)).to_lowercase();
    let main = footprint.main_program().unwrap_or_default();
    let others: Vec<&str> = footprint.programs.iter().map(|p| p.key.as_str()).filter(|key| *key != main).collect();
    format!(
        "#!/bin/sh\n# {what} Needs a POSIX shell and nothing else.\nset -eu\numask 022\nunset CDPATH\nid={}\nname={}\nversion={}\ncommand={}\nmain={main}\nothers={}\n",
        word(&text(&p.id)),
        word(&text(&p.name)),
        word(&text(&p.version)),
        word(&command),
        word(&others.join(" ")),
    )
}

/// Where things go, for one person or for everyone; the same in both scripts.
const PLACES: &str = include_str!("places.sh");

/// `install.sh`.
pub fn install(footprint: &Footprint) -> String {
    let mut out = head(footprint, "Installs the program.");
    out.push_str(PLACES);
    out.push_str(include_str!("install.sh"));
    out
}

/// `uninstall.sh`.
pub fn uninstall(footprint: &Footprint) -> String {
    let mut out = head(footprint, "Takes away the installed program: exactly what was installed.");
    out.push_str(PLACES);
    out.push_str(include_str!("uninstall.sh"));
    out
}
