//! Whether what runtimes start is there.

use crate::footprint::Node;
use crate::manifest::Project;
use crate::manifest::resolve::Product;
use crate::payload::Payload;
use crate::problem::{Code, Problem, nearest};
use std::collections::BTreeSet;

/// Paths in the lines with which runtimes start programs that lead to nothing.
pub fn check(project: &Project, product: &Product, payload: &Payload) -> Vec<Problem> {
    let is_here = |key: &str| product.footprint.programs.iter().any(|program| program.key == key);
    let starts = project.manifest.program.iter().enumerate().filter(|(_, program)| is_here(&program.key));
    let starts: Vec<_> = starts.filter_map(|(n, program)| Some((n, program.start.as_ref()?))).collect();
    if starts.is_empty() {
        return Vec::new();
    }
    let others = payload.others.iter().map(Node::path);
    let names: BTreeSet<&str> =
        payload.files.iter().map(|file| &file.path).chain(others).map(|path| path.as_str()).collect();
    let mut problems = Vec::new();
    for (n, start) in starts {
        let one = |key: &str, path: &Option<String>| path.clone().map(|path| (key.to_owned(), path));
        let several = |key: &'static str, paths: &[String]| {
            paths.iter().enumerate().map(|(n, path)| (format!("{key}.{n}"), path.clone())).collect::<Vec<_>>()
        };
        let all = one("jar", &start.jar)
            .into_iter()
            .chain(one("script", &start.script))
            .chain(one("zip-app", &start.zip_app));
        let all = all.chain(several("class-path", &start.class_path)).chain(several("module-path", &start.module_path));
        for (key, path) in all {
            let plain = path.replace('\\', "/");
            let plain = plain.strip_suffix("/*").unwrap_or(&plain).trim_end_matches('/');
            if names.contains(plain) {
                continue;
            }
            let problem = Problem::error(Code::MissingFile, format!("there is no {path} to start"));
            let problem =
                problem.at(project.source.span(&format!("program.{n}.start.{key}"))).why("it isn't in the payload");
            let name = plain.rsplit('/').next();
            let same_name = names.iter().find(|other| other.rsplit('/').next() == name).copied();
            problems.push(match same_name.or_else(|| nearest(plain, names.iter().copied())) {
                Some(near) => problem.instead(format!("{near:?}")),
                None => problem.instead("a file from one of the layers; `upper-shelf plan` shows all"),
            });
        }
    }
    problems
}
