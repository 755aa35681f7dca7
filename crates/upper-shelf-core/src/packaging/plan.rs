//! What would be built: everything is looked at and checked here, and nothing is written.

use super::seal::{Done, Work, seal_payload};
use crate::app_manifest::is_same_subject;
use crate::footprint::{Footprint, Node, RelPath, Variable};
use crate::icons::Icon;
use crate::layout;
use crate::libraries::{self, Collected, Libraries};
use crate::manifest::resolve::{Default, Product};
use crate::manifest::{Project, lock};
use crate::payload::{Layer, Payload, PayloadFile, Source, gather};
use crate::platform::{Platform, System};
use crate::problem::{Code, Failure, Kind, Problem, Span};
use crate::runtimes::{self, Trimmed};
use crate::settings::{self, Msix, Signing, TargetName};
use crate::signing::macos::Outcome;
use crate::signing::{self, ForeignSignature, Signer};
use crate::sources;
use crate::targets::{self, Fact, Job, Loss, Sealed};
use std::collections::{BTreeMap, HashMap};
use std::path::PathBuf;
use std::sync::Arc;

/// What the caller wants, and what it knows of the machine.
#[derive(Debug, Clone)]
pub struct Options {
    /// Only these platforms.
    pub platforms: Option<Vec<Platform>>,
    /// Only these formats.
    pub targets: Option<Vec<TargetName>>,
    /// The platform this runs on.
    pub host: Platform,
    /// SOURCE_DATE_EPOCH.
    pub epoch: Option<String>,
    /// The folder that packages are put into, in place of the manifest's.
    pub output: Option<PathBuf>,
    /// Whether keys are elsewhere, and only their certificates here.
    pub keys_elsewhere: bool,
}

/// A package to be.
#[derive(Debug, Clone)]
pub struct PlannedPackage {
    /// The format.
    pub target: TargetName,
    /// Its file's name.
    pub file_name: String,
    /// What it carries.
    pub carried: Footprint,
    /// What it can't.
    pub losses: Vec<Loss>,
    /// What it is known by once it is installed.
    pub facts: Vec<Fact>,
}

impl PlannedPackage {
    /// Whether it says of a file that it has several names, and holds its bytes once.
    pub fn keeps_further_names(&self) -> bool {
        self.carried.hard_links().next().is_some()
    }
}

/// Everything about one platform, before anything is written.
#[derive(Debug, Clone)]
pub struct Plan {
    /// What was resolved.
    pub product: Product,
    /// The files.
    pub payload: Payload,
    all_names: Option<Vec<PayloadFile>>,
    /// What seals the bundle that packages make of the product.
    sealed: Option<Sealed>,
    /// What is left on a machine.
    pub footprint: Footprint,
    /// The picture.
    pub icon: Icon,
    /// The packages.
    pub packages: Vec<PlannedPackage>,
    /// What became of runtimes.
    pub runtimes: Vec<Trimmed>,
    /// Libraries that come along.
    pub libraries: Option<Collected>,
    /// Defaults that were taken.
    pub defaults: Vec<Default>,
    /// Warnings.
    pub warnings: Vec<Problem>,
}

impl Plan {
    /// All files, further names of one among them.
    pub fn all_files(&self) -> &[PayloadFile] {
        self.all_names.as_deref().unwrap_or(&self.payload.files)
    }

    /// Signs the programs that nobody has signed. Everything that says how long they are follows.
    pub(super) fn sign(&mut self, signer: &Signer, threads: usize) -> Result<(u64, Vec<ForeignSignature>), Failure> {
        let before = self.sizes();
        let signed = signer.programs(&mut self.payload.files, threads)?;
        self.all_names = self.payload.with_further_names();
        self.resize(&before);
        Ok(signed)
    }

    /// Signs code for macOS, with a key or ad hoc, and seals bundles.
    pub(super) fn seal(&mut self, signer: Option<&Signer>, threads: usize) -> Result<Outcome, Failure> {
        let is_bundle = |p: &&PlannedPackage| targets::target(p.target).is_bundle(&p.carried);
        let package = self.packages.iter().find(is_bundle).or(self.packages.first());
        let Some(package) = package else { return Ok(Outcome::default()) };
        let mut files = self.all_files().to_vec();
        let before = self.sizes();
        let job = job(&self.product, &files, &package.carried, &self.icon);
        let settings = &self.product.code_signing;
        let work = Work { settings, signer, is_bundle: is_bundle(&package), threads };
        let Done { outcome, sealed, changed, added } = seal_payload(&work, &job)?;
        for (n, size, source) in changed {
            (files[n].size, files[n].source) = (size, source);
        }
        let by_path: HashMap<RelPath, (u64, Source)> =
            files.iter().map(|f| (f.path.clone(), (f.size, f.source.clone()))).collect();
        for file in &mut self.payload.files {
            if let Some((size, source)) = by_path.get(&file.path) {
                (file.size, file.source) = (*size, source.clone());
            }
        }
        self.sealed = sealed;
        let has_further = self.all_names.is_some();
        for (path, bytes) in added {
            self.add(path, bytes, has_further.then_some(&mut files));
        }
        self.all_names = has_further.then_some(files);
        self.resize(&before);
        Ok(outcome)
    }

    /// Adds a seal to the product, and the folder that it is in.
    fn add(&mut self, path: RelPath, bytes: Arc<[u8]>, further: Option<&mut Vec<PayloadFile>>) {
        let size = bytes.len() as u64;
        for package in &mut self.packages {
            let folder = path.parent().map(|path| Node::Folder { path, mode: 0o755 });
            let file = Node::File { path: path.clone(), mode: 0o644, size, content: None };
            package.carried.tree.extend(folder.into_iter().chain([file]));
        }
        for files in std::iter::once(&mut self.payload.files).chain(further) {
            let layer = files.iter().find(|file| file.path.parent() >= path.parent()).map_or(0, |file| file.layer);
            let source = Source::Memory(Arc::clone(&bytes));
            let file = PayloadFile { path: path.clone(), mode: 0o644, size, source, layer, further_name: false };
            let at = files.partition_point(|other| other.path < path);
            files.insert(at, file);
        }
    }

    /// How long each file is, further names of one among them.
    fn sizes(&self) -> HashMap<RelPath, u64> {
        self.all_files().iter().map(|file| (file.path.clone(), file.size)).collect()
    }

    /// Everything that says how long files are follows them; `before` is how long they were.
    fn resize(&mut self, before: &HashMap<RelPath, u64>) {
        let changed = |file: &PayloadFile| before.get(&file.path).filter(|before| **before != file.size).copied();
        for file in &self.payload.files {
            if let (Some(before), Some(share)) = (changed(file), self.payload.shares.get_mut(file.layer)) {
                share.bytes = share.bytes - before + file.size;
            }
        }
        let all = self.all_names.as_deref().unwrap_or(&self.payload.files);
        let sizes: HashMap<&RelPath, u64> =
            all.iter().filter(|file| changed(file).is_some()).map(|file| (&file.path, file.size)).collect();
        for package in &mut self.packages {
            package.carried.set_sizes(|path| sizes.get(path).copied());
        }
    }

    /// The files that a package holds: those that are further names of others only if it can't say so.
    fn files(&self, package: &PlannedPackage) -> &[PayloadFile] {
        if package.keeps_further_names() { &self.payload.files } else { self.all_files() }
    }

    /// What a package would be written from; nothing can be written beside it.
    pub fn job<'j>(&'j self, package: &'j PlannedPackage) -> Job<'j> {
        let sealed = self.sealed.as_ref().filter(|_| targets::target(package.target).is_bundle(&package.carried));
        Job { sealed, ..job(&self.product, self.files(package), &package.carried, &self.icon) }
    }
}

fn job<'j>(product: &'j Product, files: &'j [PayloadFile], footprint: &'j Footprint, icon: &'j Icon) -> Job<'j> {
    Job {
        footprint,
        files,
        icon,
        disk_image: &product.disk_image,
        wizard: &product.wizard,
        time: product.time,
        file_name: &product.file_name,
        settings: &product.settings,
        signer: None,
        sealed: None,
        threads: 1,
        sidecar: &|_| Err(Failure::new(Kind::Problems, Problem::error(Code::Internal, "nothing is written by a plan"))),
    }
}

/// What lies beside a manifest and is never a part of the product: packages, the manifest itself and its lock.
fn own_paths(project: &Project, options: &Options) -> Vec<PathBuf> {
    let output = project.folder.join(project.manifest.targets.output.as_deref().unwrap_or("packages"));
    let lock = lock::path(project);
    [output, project.file.clone(), lock].into_iter().chain(options.output.clone()).collect()
}

/// Gives layers of sources their places in the cache. Those whose source is not there are left out, and told.
fn placed(layers: &mut Vec<Layer>) -> Vec<Problem> {
    let mut problems = Vec::new();
    layers.retain_mut(|layer| {
        let Some(source) = &layer.source else { return true };
        match sources::folder_of(source) {
            Ok(folder) => {
                layer.from = folder.join(&layer.from);
                true
            }
            Err(found) => {
                problems.extend(found);
                false
            }
        }
    });
    problems
}

/// The same of folders that libraries come from.
fn placed_libraries(tables: &mut Vec<Libraries>) -> Vec<Problem> {
    let mut problems = Vec::new();
    tables.retain_mut(|table| {
        let folder = table.source.as_ref().map(sources::folder_of).transpose();
        match folder {
            Ok(Some(folder)) => table.from.iter_mut().for_each(|from| *from = folder.join(&*from)),
            Ok(None) => {}
            Err(found) => problems.extend(found),
        }
        let missing = table.from.iter().find(|from| !from.is_dir() && problems.is_empty());
        problems.extend(missing.map(|folder| {
            Problem::error(Code::Unreadable, format!("there is no folder {}", folder.display()))
                .about_setting(format!("{}.from", table.setting))
                .instead("a folder of a toolkit or a system")
        }));
        problems.is_empty()
    });
    problems
}

/// What programs get so that they find what came along; what the manifest sets is meant.
fn set_variables(footprint: &mut Footprint, set: BTreeMap<String, String>, before: Vec<Variable>) {
    if !set.is_empty() {
        let programs = footprint.programs.iter().cloned().map(|mut program| {
            for (name, value) in &set {
                program.environment.entry(name.clone()).or_insert_with(|| value.clone());
            }
            program
        });
        footprint.programs = programs.collect();
    }
    let is_set = |name: &str| footprint.environment.iter().any(|one| one.name == name);
    let before: Vec<Variable> = before.into_iter().filter(|one| !is_set(&one.name)).collect();
    footprint.environment.extend(before);
}

/// The sources that a project needs for some platforms, or for those that it is built for, each once.
pub fn sources_of(project: &Project, platforms: Option<&[Platform]>, host: Platform) -> Vec<settings::Source> {
    let platforms = platforms.map_or_else(|| project.platforms(host).0, <[_]>::to_vec);
    let mut all: Vec<settings::Source> = Vec::new();
    for platform in platforms {
        let (product, _) = project.resolve(platform, None);
        let of_libraries = product.libraries.into_iter().filter_map(|table| table.source);
        for source in product.layers.into_iter().filter_map(|layer| layer.source).chain(of_libraries) {
            if !all.contains(&source) {
                all.push(source);
            }
        }
    }
    all
}

/// Looks at everything and writes nothing.
///
/// # Errors
/// All problems of all platforms at once; a changed id alone, because nothing else matters then.
pub fn plan(project: &Project, options: &Options) -> Result<Vec<Plan>, Failure> {
    lock::check(project)?;
    let (mut platforms, chosen) = project.platforms(options.host);
    if let Some(only) = &options.platforms {
        platforms = only.clone();
    }
    let mut problems: Vec<(Problem, Platform)> = Vec::new();
    let mut plans = Vec::new();
    // What the manifest builds, and nobody asked for.
    let mut not_wanted: Vec<&str> = Vec::new();
    for platform in platforms {
        let (mut product, found) = project.resolve(platform, options.epoch.as_deref());
        let mut found = found;
        if let Some(only) = &options.targets {
            not_wanted.extend(product.targets.iter().filter(|t| !only.contains(t)).map(|t| t.name()));
            product.targets.retain(|t| only.contains(t));
        }
        if product.targets.contains(&TargetName::Msix) {
            found.extend(match &product.signing {
                Some(settings) => publisher_of(settings, &mut product.settings.msix, options.keys_elsewhere),
                None => product.settings.msix.publisher.as_ref().map(|_| unsigned()),
            });
        }
        found.extend(placed(&mut product.layers));
        let (mut payload, more) = gather(&product.layers, platform, &own_paths(project, options));
        found.extend(more);
        let (runtimes, more) = runtimes::trim(&product.runtimes, &mut payload);
        found.extend(more);
        found.extend(placed_libraries(&mut product.libraries));
        let libraries = libraries::collect(&product.libraries, platform, &mut payload);
        found.extend(libraries.problems);
        set_variables(&mut product.footprint, libraries.set, libraries.before);
        let libraries = libraries.collected;
        let icon = match product.icon.clone().map(|(path, span)| Icon::load(&path, span)) {
            None => Icon::plain(&project.manifest.product.id),
            Some(Ok((icon, warnings))) => {
                found.extend(warnings);
                icon
            }
            Some(Err(failure)) => {
                found.extend(failure.problems);
                Icon::plain("")
            }
        };
        found.extend(layout::prepare(project, &mut product, &mut payload, &icon));
        let (identity, now) = (&product.footprint.product, signing::now());
        found.extend(match platform.system() {
            System::Macos => signing::macos::check(&product.code_signing, identity, options.keys_elsewhere, now),
            _ => {
                let check = |settings| signing::check(settings, identity, None, options.keys_elsewhere, now);
                product.signing.iter().flat_map(check).collect()
            }
        });
        // It signs packages of all platforms, and is looked at once.
        if let Some(settings) = project.openpgp().filter(|_| plans.is_empty()) {
            found.extend(signing::check_openpgp(&settings, now));
        }
        let (footprint, more) = layout::lay_out(&product, &payload, &icon);
        // Without its layers a payload's gaps say nothing new.
        if !found.iter().any(Problem::is_error) {
            found.extend(more);
        }
        if lock::is_example(&project.manifest.product.id) {
            found.push(
                Problem::warning(Code::ExampleId, "the id is still the example's")
                    .at(project.source.span("product.id"))
                    .why("systems find the installed version by it, and it can't be changed after the first release")
                    .instead("the reverse of a domain that you own, and the product's name: id = \"works.fernhollow.combwright\""),
            );
        }
        let all_names = payload.with_further_names();
        let files = all_names.as_deref().unwrap_or(&payload.files);
        let mut against = Vec::new();
        let mut packages = planned_packages(&product, files, &footprint, &icon, &mut against);
        if platform.system() == System::Macos {
            said_of_signing(&product, &mut packages);
        }
        said_of_msix(&mut packages);
        let located = |problem| {
            let mut problem = product.located(problem, &project.source);
            if problem.code == Code::Secret {
                problem.span = problem.span.map(Span::without_value);
            }
            problem
        };
        let mut found: Vec<Problem> = found.into_iter().map(located).collect();
        // What is wrong in itself is wrong for a format, too.
        let wrong: Vec<Span> = found.iter().filter(|p| p.is_error()).filter_map(|p| p.span.clone()).collect();
        let against = against.into_iter().map(|problem| product.located(problem, &project.source));
        let is_known = |p: &Problem| match p.code {
            // It has one, which is wrong.
            Code::NeedsProgram => !wrong.is_empty() && !project.manifest.program.is_empty(),
            _ => p.span.as_ref().is_some_and(|span| wrong.contains(span)),
        };
        // What several formats object to is said once.
        for problem in against.filter(|p| !is_known(p)) {
            if !found.contains(&problem) {
                found.push(problem);
            }
        }
        let mut defaults = product.defaults.clone();
        defaults.extend(chosen.clone());
        let (errors, warnings): (Vec<Problem>, Vec<Problem>) = found.into_iter().partition(Problem::is_error);
        problems.extend(errors.into_iter().map(|problem| (problem, platform)));
        plans.push(Plan {
            product,
            payload,
            all_names,
            sealed: None,
            footprint,
            icon,
            packages,
            runtimes,
            libraries,
            defaults,
            warnings,
        });
    }
    // What would be a bundle of one package is that package, with the files that lie beside it.
    if plans.iter().filter(|plan| plan.product.targets.contains(&TargetName::Msix)).count() < 2 {
        plans.iter_mut().for_each(|plan| plan.product.settings.msix.bundle = false);
    }
    let mut said = project.problems.clone();
    said.extend(once_each(problems, plans.len()));
    if said.is_empty() && plans.iter().all(|p| p.packages.is_empty()) {
        let problem =
            Problem::error(Code::NothingToBuild, "there is nothing to build").at(project.source.span("targets"));
        let asked = options.targets.iter().flatten().map(|target| target.name());
        said.push(nothing_to_build(problem, not_wanted, asked.collect()));
    }
    if said.is_empty() {
        return Ok(plans);
    }
    for plan in &plans {
        said.extend(plan.warnings.iter().filter(|w| !said.contains(w)).cloned().collect::<Vec<_>>());
    }
    said.sort_by_key(|p| (p.severity, p.span.as_ref().map(|s| (s.line, s.column))));
    Err(Failure::all(Kind::Problems, said))
}

/// Why nothing is left to be built: of the formats that the manifest builds none was asked for, or they don't fit.
fn nothing_to_build(problem: Problem, mut not_wanted: Vec<&str>, asked: Vec<&str>) -> Problem {
    not_wanted.sort_unstable();
    not_wanted.dedup();
    if not_wanted.is_empty() {
        let problem = problem.why("none of the chosen formats fits any of the chosen platforms");
        return problem.instead("appimage is for Linux, msi for Windows; zip and tar are for all");
    }
    let problem = problem.why(format!("the manifest builds {}, not {}", not_wanted.join(", "), asked.join(", ")));
    let all: Vec<String> = not_wanted.iter().chain(&asked).map(|name| format!("{name:?}")).collect();
    problem.instead(format!("[targets]\nbuild = [{}]", all.join(", ")))
}

/// A package that nobody can install yet.
fn unsigned() -> Problem {
    let what = "the MSIX package isn't signed, and Windows installs signed ones only";
    let problem = Problem::warning(Code::Certificate, what).about_setting("target.msix.publisher");
    problem.instead("sign it later with `upper-shelf sign`, or name a key in [signing.windows]")
}

/// Takes the publisher of packages from the certificate that signs them; a stated one has to be the same.
fn publisher_of(settings: &Signing, msix: &mut Msix, elsewhere: bool) -> Option<Problem> {
    let of_key = signing::publisher(settings, elsewhere)?;
    let stated = msix.publisher.get_or_insert_with(|| of_key.clone());
    if is_same_subject(stated, &of_key) {
        return None;
    }
    let what = format!("the publisher {stated:?} isn't the subject of the certificate, {of_key:?}");
    let problem = Problem::error(Code::Certificate, what).about_setting("target.msix.publisher");
    Some(problem.why("Windows installs a package only if both are the same").instead(format!("publisher = {of_key:?}")))
}

/// Each problem once, with the platforms that have it where the others don't.
fn once_each(problems: Vec<(Problem, Platform)>, platforms: usize) -> Vec<Problem> {
    let mut said: Vec<(Problem, Vec<&str>)> = Vec::new();
    for (problem, platform) in problems {
        match said.iter_mut().find(|(p, _)| *p == problem) {
            Some((_, names)) => names.push(platform.name()),
            None => said.push((problem, vec![platform.name()])),
        }
    }
    let of_platforms = |code| {
        use Code::*;
        matches!(code, MissingFile | NoMatch | NoFiles | UnknownProgram | NameNotAllowed | NameClash | Unreadable)
    };
    let whole = |(mut problem, names): (Problem, Vec<&str>)| {
        if names.len() < platforms && of_platforms(problem.code) {
            problem.what = format!("{} ({})", problem.what, names.join(", "));
        }
        problem
    };
    said.into_iter().map(whole).collect()
}

/// What signing loses for packages of macOS.
fn said_of_signing(product: &Product, packages: &mut [PlannedPackage]) {
    let is_bundle = |p: &PlannedPackage| targets::target(p.target).is_bundle(&p.carried);
    let some_are = packages.iter().any(is_bundle);
    for package in packages {
        let is_sealed = targets::bundle::finished::is_sealed(&package.carried.tree);
        if product.code_signing.key.is_none() && (!is_sealed || product.code_signing.replace) {
            package.losses.push(Loss {
                what: "programs are signed ad hoc: nobody vouches for them".into(),
                why: "macOS warns before it opens a downloaded program; [signing.macos] names a key".into(),
            });
        }
        let is_finished = targets::bundle::finished::folder(&package.carried.tree).is_some();
        if some_are && !is_bundle(package) && !is_finished {
            package.losses.push(Loss {
                what: "the main program bears the application bundle's signature".into(),
                why: "it starts without its bundle, but fails a strict check of its signature".into(),
            });
        }
    }
}

/// What packages that Windows installs by itself lose beside other packages of the product.
fn said_of_msix(packages: &mut [PlannedPackage]) {
    if !packages.iter().any(|p| matches!(p.target, TargetName::Msi | TargetName::Nsis)) {
        return;
    }
    for package in packages.iter_mut().filter(|p| p.target == TargetName::Msix) {
        package.losses.push(Loss {
            what: "it doesn't replace the product's MSI or setup program, and neither replaces it".into(),
            why: "Windows keeps them apart: users who install both have the product twice".into(),
        });
    }
}

fn planned_packages(
    product: &Product,
    files: &[PayloadFile],
    footprint: &Footprint,
    icon: &Icon,
    found: &mut Vec<Problem>,
) -> Vec<PlannedPackage> {
    let mut packages = Vec::new();
    for &name in &product.targets {
        let target = targets::target(name);
        let (mut carried, all) = target.carry(footprint);
        carried.foreign = target.declared(&product.settings);
        // One name in several places is one loss.
        let mut losses: Vec<Loss> = Vec::new();
        all.into_iter().for_each(|loss| {
            if !losses.contains(&loss) {
                losses.push(loss)
            }
        });
        let job = job(product, files, &carried, icon);
        found.extend(target.check(&job));
        let facts = target.facts(&job);
        let file_name = format!("{}{}", product.file_name, target.extension(&product.settings));
        packages.push(PlannedPackage { target: name, file_name, carried, losses, facts });
    }
    packages
}
