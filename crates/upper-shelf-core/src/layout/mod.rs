//! Lays a product out: what the manifest says and what the layers brought become one footprint. What has to be made for that
//! (launchers, icons in programs, what a finished bundle lacks) is put into the payload first.

mod finished;
mod starts;

use crate::footprint::{Choice, Command, EnvironmentAction, Font, Footprint, Item, RelPath, Variable, file_name_of};
use crate::icons::Icon;
use crate::manifest::Project;
use crate::manifest::resolve::{Default, Product};
use crate::payload::brand::brand;
use crate::payload::{Payload, kinds, launcher, patterns, universal};
use crate::platform::System;
use crate::problem::{Code, Problem, nearest};
use crate::targets::bundle;
use std::collections::{BTreeSet, HashSet};

/// Puts into the payload what is made of it, and into the product what is known from it. Gives what is wrong.
pub fn prepare(project: &Project, product: &mut Product, payload: &mut Payload, icon: &Icon) -> Vec<Problem> {
    let mut found = universal::join(payload);
    found.extend(can_be_started(project, product, payload));
    found.extend(starts::check(project, product, payload));
    match product.platform.system() {
        System::Windows => {
            found.extend(brand_programs(project, product, payload, icon));
            found.extend(launchers(project, product, payload, icon));
            found.extend(commands(product, payload, icon));
        }
        System::Macos => {
            minimum_system(product, payload);
            found.extend(finished::complete(product, payload, icon));
        }
        System::Linux => {}
    }
    found
}

/// The footprint of a product with its payload, and what does not fit together.
pub fn lay_out(product: &Product, payload: &Payload, icon: &Icon) -> (Footprint, Vec<Problem>) {
    let mut problems = Vec::new();
    let others = payload.others.iter().filter(|node| !node.is_folder()).map(|node| node.path().as_str());
    let names: HashSet<&str> = payload.files.iter().map(|f| f.path.as_str()).chain(others).collect();
    for program in &product.footprint.programs {
        let file = &program.file;
        if names.contains(file.as_str()) {
            continue;
        }
        let what = format!("the program {:?} has no file {file}", program.key);
        let problem = Problem::error(Code::MissingFile, what).about_key(program, "file").why("it isn't in the payload");
        let same_name = names.iter().filter(|n| n.rsplit('/').next() == Some(file.name())).min();
        let near = same_name.copied().or_else(|| nearest(file.as_str(), names.iter().copied()));
        problems.push(problem.instead(match near {
            Some(near) => format!("file = {near:?}"),
            None => "a file from one of the layers; `upper-shelf plan` shows all".into(),
        }));
    }
    let mut footprint = product.footprint.clone();
    problems.extend(check_fonts(&footprint, payload));
    problems.extend(check_shell_files(&footprint, payload));
    problems.extend(fill_choices(&mut footprint, &product.choices, payload));
    problems.extend(keep(&mut footprint, &product.keep_changed, payload));
    footprint.tree = payload.tree().collect();
    if product.platform.system() == System::Linux {
        footprint.icons = icon.images().into();
    }
    (footprint, problems)
}

/// Marks the files that fit a pattern of `keep-changed`.
fn keep(footprint: &mut Footprint, globs: &[String], payload: &Payload) -> Option<Problem> {
    if globs.is_empty() {
        return None;
    }
    let about = |problem: Problem| Some(problem.about_setting("install.keep-changed"));
    let set = match patterns(globs) {
        Ok(set) => set,
        Err(why) => return about(Problem::error(Code::InvalidValue, format!("`keep-changed`: {why}"))),
    };
    let files = payload.files.iter().map(|f| &f.path).filter(|path| set.is_match(path.as_str()));
    footprint.install.keep_changed = files.cloned().collect();
    if !footprint.install.keep_changed.is_empty() {
        return None;
    }
    let none =
        Problem::error(Code::NoMatch, "`keep-changed` matches no file").why("no pattern matches a file of the payload");
    about(none.instead("keep-changed = [\"templates/**\"]"))
}

/// Fonts without a file in the payload.
fn check_fonts(footprint: &Footprint, payload: &Payload) -> Vec<Problem> {
    let names: BTreeSet<&RelPath> = payload.files.iter().map(|f| &f.path).collect();
    let missing = footprint.fonts.iter().filter(|font| !names.contains(&font.file));
    let what = |font: &Font| format!("the font {:?} has no file {}", font.title, font.file);
    missing.map(|font| without_file(what(font), font, &font.file, &names)).collect()
}

/// Manual pages and completions without a file in the payload.
fn check_shell_files(footprint: &Footprint, payload: &Payload) -> Vec<Problem> {
    let names: BTreeSet<&RelPath> = payload.files.iter().map(|f| &f.path).collect();
    let missing = footprint.shell_files.iter().filter(|file| !names.contains(&file.file));
    missing.map(|file| without_file(format!("there is no file {}", file.file), file, &file.file, &names)).collect()
}

/// An item whose file is not in the payload, with the file that may be meant.
fn without_file(what: String, item: &impl Item, file: &RelPath, names: &BTreeSet<&RelPath>) -> Problem {
    let near = nearest(file.as_str(), names.iter().map(|n| n.as_str()));
    let instead = near.map_or_else(|| "a file from one of the layers".to_owned(), |n| format!("file = {n:?}"));
    let problem = Problem::error(Code::MissingFile, what).about_key(item, "file");
    problem.why("it isn't in the payload").instead(instead)
}

/// Puts the payload's files into choices, by their patterns, and says which choices have none.
fn fill_choices(footprint: &mut Footprint, globs: &[(String, Vec<String>)], payload: &Payload) -> Vec<Problem> {
    let mut problems = Vec::new();
    footprint.choices = footprint.choices.filter_map(|choice| {
        let Some((_, globs)) = globs.iter().find(|(key, _)| *key == choice.key) else { return Some(choice.clone()) };
        let set = match patterns(globs) {
            Ok(set) => set,
            Err(why) => {
                problems.push(
                    Problem::error(Code::InvalidValue, format!("the choice {:?}: {why}", choice.key))
                        .about_key(choice, "files"),
                );
                return Some(choice.clone());
            }
        };
        let files = payload.files.iter().map(|f| &f.path).filter(|path| set.is_match(path.as_str()));
        let files: Vec<RelPath> = files.cloned().collect();
        if files.is_empty() {
            let problem = Problem::error(Code::NoMatch, format!("the choice {:?} has no files", choice.key))
                .about_key(choice, "files");
            let problem = problem.why("none of its patterns matches a file of the payload");
            problems.push(problem.instead("files = [\"samples/**\"]"));
        }
        Some(Choice { files, ..choice.clone() })
    });
    problems
}

/// Looks at what people start: by content, and with the right to be started.
fn can_be_started(project: &Project, product: &mut Product, payload: &mut Payload) -> Vec<Problem> {
    let at = |key: &str| project.manifest.program.iter().position(|p| p.key == key);
    let span = |key: &str| {
        let of = |n, name| project.source.span(&format!("program.{n}.{name}"));
        at(key).and_then(|n| of(n, "file").or_else(|| of(n, "runtime")))
    };
    let mut said = Vec::new();
    let problems = kinds::check(&product.footprint.programs, payload, product.platform, &span, &mut |key, why| {
        let key = at(key).map_or_else(|| key.to_owned(), |n| format!("program.{n}.file"));
        said.push(Default { key, value: "mode 755".into(), why, is_detail: false });
    });
    product.defaults.extend(said);
    problems
}

/// The minimum macOS, where the manifest is silent: what the code was built for.
fn minimum_system(product: &mut Product, payload: &Payload) {
    if product.footprint.install.minimum_macos.is_some() {
        return;
    }
    if let Some(version) = bundle::code::minimum_system(&payload.files, product.platform) {
        let why = "the code in the payload was built for it".into();
        product.defaults.push(Default {
            key: "install.minimum-macos".into(),
            value: version.to_string(),
            why,
            is_detail: false,
        });
        product.footprint.install.minimum_macos = version.to_string().parse().ok();
    }
}

/// Puts icon and version into the programs that the manifest names for it.
fn brand_programs(project: &Project, product: &Product, payload: &mut Payload, icon: &Icon) -> Vec<Problem> {
    let mut found = Vec::new();
    for (n, written) in project.manifest.program.iter().enumerate().filter(|(_, p)| p.brand) {
        let span = project.source.span(&format!("program.{n}.brand"));
        if let Some(program) = product.footprint.program(&written.key) {
            let problems = brand(payload, &program.file, &product.footprint.product, icon, written.drop_signature);
            found.extend(problems.into_iter().map(|p| p.at(span.clone())));
        }
    }
    found
}

/// Puts launchers for Windows into the payload; their programs are the launchers from then on.
fn launchers(project: &Project, product: &mut Product, payload: &mut Payload, icon: &Icon) -> Vec<Problem> {
    let mut found = Vec::new();
    for (n, written) in project.manifest.program.iter().enumerate() {
        let Some(mut program) = product.footprint.program(&written.key).cloned() else { continue };
        let path = match (&written.launcher, &written.runtime) {
            (Some(path), _) => path.clone(),
            (None, None) => continue,
            // Only a launcher takes variables away, and has the product's name and icon.
            (None, Some(_)) => {
                let is_first = project.manifest.program.iter().position(|other| other.runtime.is_some()) == Some(n);
                let name = if is_first { file_name_of(&project.manifest.product.name) } else { written.key.clone() };
                let (key, value) = (format!("program.{n}.launcher"), format!("{name}.exe"));
                let why = "it starts the runtime, under the product's name".into();
                product.defaults.push(Default { key, value: value.clone(), why, is_detail: false });
                value
            }
        };
        let at = |name| project.source.span(&format!("program.{n}.{name}"));
        let span = at("launcher").or_else(|| at("runtime"));
        let problems = launcher::add(payload, product.platform, &path, &mut program, &product.footprint.product, icon);
        found.extend(problems.into_iter().map(|p| p.at(span.clone())));
        product.footprint.programs.extend([program]);
    }
    found
}

/// The folder with the launchers that are commands.
const COMMANDS: &str = "commands";

/// Windows finds commands by their folder: each gets a launcher in a folder of the product's, which is added to the `PATH`.
fn commands(product: &mut Product, payload: &mut Payload, icon: &Icon) -> Vec<Problem> {
    let mut found = Vec::new();
    let commands = std::mem::take(&mut product.footprint.commands);
    for Command { name, program } in &commands {
        let Some(mut program) = product.footprint.program(program).cloned() else { continue };
        let path = format!("{COMMANDS}/{name}.exe");
        let product = &*product;
        let command = Command { name: name.clone(), program: program.key.clone() };
        let problems = launcher::add(payload, product.platform, &path, &mut program, &product.footprint.product, icon);
        found.extend(problems.into_iter().map(|p| p.about(&command)));
    }
    if !commands.is_empty() {
        let value = format!("{{install}}/{COMMANDS}");
        let path = Variable { name: "PATH".into(), action: EnvironmentAction::Append, value };
        match product.footprint.environment.iter().find(|v| v.name.eq_ignore_ascii_case("PATH")).cloned() {
            None => product.footprint.environment.extend([path]),
            // One variable is one item: what the manifest adds to it stays.
            Some(own) => {
                let value = match own.action {
                    EnvironmentAction::Append => format!("{};{}", own.value, path.value),
                    EnvironmentAction::Prepend | EnvironmentAction::Set => format!("{};{}", path.value, own.value),
                };
                product.footprint.environment.extend([Variable { value, ..own }]);
            }
        }
    }
    found
}
