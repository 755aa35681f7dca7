//! One page that shows all pictures, for the people who agree to a release, with the footprint beside.

use super::Made;
use crate::packaging::Plan;
use crate::problem::Problem;
use quick_xml::escape::escape;
use std::path::Path;

const STYLE: &str = "
:root { color-scheme: light dark; font: 15px/1.5 system-ui, sans-serif; }
body { margin: 0; display: grid; grid-template-columns: minmax(0, 3fr) minmax(20rem, 2fr); gap: 0 2rem; }
header, main, aside { padding: 1.5rem 2rem; }
header { grid-column: 1 / -1; border-bottom: 3px solid var(--accent); padding-bottom: 1rem; }
header p { margin: .2rem 0 0; }
h1 { font-size: 1.6rem; margin: 0; }
h2 { font-size: 1.15rem; margin: 2rem 0 .8rem; }
h2:first-child { margin-top: 0; }
h3 { font-size: 1rem; margin: 1.2rem 0 .6rem; }
.pages { display: grid; grid-template-columns: repeat(auto-fill, minmax(18rem, 1fr)); gap: 1.2rem; }
figure { margin: 0; }
figure img { max-width: 100%; height: auto; box-shadow: 0 2px 10px rgb(0 0 0 / .3); }
.window img { max-width: 40rem; width: 100%; }
figcaption { font-size: .85rem; opacity: .8; margin-top: .3rem; }
aside { border-left: 1px solid rgb(128 128 128 / .4); }
pre { overflow-x: auto; font: 11.5px/1.5 ui-monospace, monospace; margin: 0; }
ul { padding-left: 1.2rem; }
@media (max-width: 60rem) { body { display: block; } aside { border: 0; } }
@media print { body { display: block; } figure { break-inside: avoid; } }
";

/// The page, which lies beside the pictures' files.
pub(super) fn review(plans: &[Plan], made: &[Made], warnings: &[Problem]) -> String {
    let identity = plans.first().map(|p| p.footprint.product.clone()).unwrap_or_default();
    let name = identity.name.unwrap_or_default();
    let version = identity.version.unwrap_or_default();
    let [r, g, b] = plans.first().map_or([0x3A, 0x6E, 0xA5], |p| p.product.wizard.accent);
    let title = escape(format!("{name} {version}")).into_owned();
    let mut out = format!(
        "<!doctype html>\n<html lang=\"en\">\n<meta charset=\"utf-8\">\n<meta name=\"viewport\" content=\"width=device-width\">\n\
         <title>{title}: what users will see</title>\n<style>:root {{ --accent: #{r:02x}{g:02x}{b:02x}; }}{STYLE}</style>\n\
         <header><h1>{title}</h1><p>What users will see, and what will be on their machines.</p></header>\n<main>\n"
    );
    let mut package = "";
    let mut language = None;
    let mut is_open = false;
    for Made { picture, file, file_twice } in made {
        let (once, twice) = (name_of(file), name_of(file_twice));
        let is_window = picture.language.is_none();
        if picture.package != package || picture.language != language {
            if std::mem::take(&mut is_open) {
                out += "</div>\n";
            }
            if picture.package != package {
                package = &picture.package;
                out += &format!("<h2>{}</h2>\n", escape(package));
            }
            language.clone_from(&picture.language);
            if let Some(code) = &language {
                out += &format!("<h3>{}</h3>\n", escape(code.as_str()));
            }
            out += if is_window { "<div class=\"window\">\n" } else { "<div class=\"pages\">\n" };
            is_open = true;
        }
        let code = picture.language.as_deref().map(|c| format!(" lang=\"{}\"", escape(c))).unwrap_or_default();
        out += &format!(
            "<figure><img src=\"{once}\" srcset=\"{once} 1x, {twice} 2x\" width=\"{}\" height=\"{}\" alt=\"{}\"{code}><figcaption>{}</figcaption></figure>\n",
            picture.size.0,
            picture.size.1,
            escape(picture.words()),
            escape(picture.page.as_str()),
        );
    }
    if is_open {
        out += "</div>\n";
    }
    if !warnings.is_empty() {
        out += "<h2>Worth a look</h2>\n<ul>\n";
        for warning in warnings {
            let rest: Vec<&str> = [&warning.why, &warning.instead].into_iter().flatten().map(String::as_str).collect();
            out += &format!("<li>{}: {}</li>\n", escape(warning.what.as_str()), escape(rest.join("; ")));
        }
        out += "</ul>\n";
    }
    out += "</main>\n<aside>\n";
    for plan in plans {
        let platform = plan.product.platform;
        out += &format!("<h2>{platform}</h2>\n<pre>{}</pre>\n", escape(plan.footprint.to_text()));
    }
    out += "</aside>\n</html>\n";
    out
}

fn name_of(file: &Path) -> String {
    escape(file.file_name().unwrap_or_default().to_string_lossy()).into_owned()
}
