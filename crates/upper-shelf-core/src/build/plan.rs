//! What would be built: everything is looked at and checked here, and nothing is written.

use crate::footprint::Footprint;
use crate::icons::Icon;
use crate::manifest::resolve::{Default, Product};
use crate::manifest::written::{TargetName, TargetSettings};
use crate::manifest::{Project, lock};
use crate::payload::brand::brand;
use crate::payload::{Payload, PayloadFile, gather, kinds, launcher, universal};
use crate::platform::Platform;
use crate::problem::{Failure, Kind, Problem};
use crate::targets::{self, Job, Loss, bundle};
use std::path::PathBuf;

/// What the caller wants, and what it knows of the machine.
#[derive(Debug, Clone)]
pub struct Wishes {
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
    /// What is left on a machine.
    pub footprint: Footprint,
    /// The picture.
    pub icon: Icon,
    /// The packages.
    pub packages: Vec<PlannedPackage>,
    /// Defaults that were taken.
    pub defaults: Vec<Default>,
    /// What somebody should look at.
    pub warnings: Vec<Problem>,
}

impl Plan {
    /// All files, further names of one among them.
    pub fn all_files(&self) -> &[PayloadFile] {
        self.all_names.as_deref().unwrap_or(&self.payload.files)
    }

    /// The files that a package holds: those that are further names of others only if it can't say so.
    fn files(&self, package: &PlannedPackage) -> &[PayloadFile] {
        if package.keeps_further_names() { &self.payload.files } else { self.all_files() }
    }

    /// What a package would be written from; nothing can be written beside it.
    pub fn job<'j>(&'j self, package: &'j PlannedPackage, settings: &'j TargetSettings) -> Job<'j> {
        job(&self.product, self.files(package), &package.carried, &self.icon, settings)
    }
}

fn job<'j>(
    product: &'j Product,
    files: &'j [PayloadFile],
    footprint: &'j Footprint,
    icon: &'j Icon,
    settings: &'j TargetSettings,
) -> Job<'j> {
    Job {
        footprint,
        files,
        icon,
        disk_image: &product.disk_image,
        wizard: &product.wizard,
        time: product.time,
        file_name: &product.file_name,
        settings,
        threads: 1,
        beside: &|_| Err(Failure::new(Kind::Problems, Problem::error("nothing is written by a plan"))),
    }
}

/// What lies beside a manifest and is never a part of the product: packages, the manifest itself and its lock.
fn own_paths(project: &Project, wishes: &Wishes) -> Vec<PathBuf> {
    let output = project.folder.join(project.manifest.targets.output.as_deref().unwrap_or("packages"));
    let lock = lock::path(project);
    [output, project.file.clone(), lock].into_iter().chain(wishes.output.clone()).collect()
}

/// Looks at everything and writes nothing.
///
/// # Errors
/// All problems of all platforms at once; a changed id alone, because nothing else matters then.
pub fn plan(project: &Project, wishes: &Wishes) -> Result<Vec<Plan>, Failure> {
    lock::check(project)?;
    let (mut platforms, chosen) = project.platforms(wishes.host);
    if let Some(only) = &wishes.platforms {
        platforms = only.clone();
    }
    let mut problems: Vec<Problem> = Vec::new();
    let mut plans = Vec::new();
    for platform in platforms {
        let (mut product, found) = project.resolve(platform, wishes.epoch.as_deref());
        let mut found = found;
        if let Some(only) = &wishes.targets {
            product.targets.retain(|t| only.contains(t));
        }
        let (mut payload, more) = gather(&product.layers, platform, &own_paths(project, wishes));
        found.extend(more);
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
        found.extend(universal::join(&mut payload));
        found.extend(can_be_started(project, &mut product, &mut payload));
        found.extend(brand_programs(project, &product, &mut payload, &icon));
        found.extend(launchers(project, &mut product, &mut payload, &icon));
        if platform.system() == crate::platform::System::Macos {
            smallest_system(&mut product, &payload);
            found.extend(bundle::finished::complete(&mut product, &mut payload, &icon));
        }
        let icons = if platform.system() == crate::platform::System::Linux { icon.images() } else { Vec::new() };
        let (footprint, more) = product.lay_out(&payload, &icons);
        // Without its layers a payload's gaps say nothing new.
        if !found.iter().any(Problem::is_error) {
            found.extend(more);
        }
        if lock::is_example(&project.manifest.product.id) {
            found.push(
                Problem::warning("the id is still the example")
                    .at(project.source.span("product.id"))
                    .why("systems find the installed version by it, and it can't be changed after the first release")
                    .instead("the reverse of a domain that you own, and the product's name: id = \"works.fernhollow.combwright\""),
            );
        }
        let all_names = payload.with_further_names();
        let files = all_names.as_deref().unwrap_or(&payload.files);
        let packages = planned_packages(project, &product, files, &footprint, &icon, &mut found);
        let mut defaults = product.defaults.clone();
        defaults.extend(chosen.clone());
        let found = found.into_iter().map(|problem| product.located(problem, &project.source));
        let (errors, warnings): (Vec<Problem>, Vec<Problem>) = found.partition(Problem::is_error);
        problems.extend(errors);
        plans.push(Plan { product, payload, all_names, footprint, icon, packages, defaults, warnings });
    }
    // What holds for several platforms is said once.
    let mut said: Vec<Problem> = Vec::new();
    for problem in problems {
        if !said.contains(&problem) {
            said.push(problem);
        }
    }
    if said.is_empty() && plans.iter().all(|p| p.packages.is_empty()) {
        let problem = Problem::error("nothing is built").at(project.source.span("targets"));
        let problem = problem.why("none of the chosen formats is for any of the chosen platforms");
        said.push(problem.instead("appimage is for Linux, msi for Windows; zip and tar are for all"));
    }
    if said.is_empty() {
        return Ok(plans);
    }
    for plan in &plans {
        said.extend(plan.warnings.iter().filter(|w| !said.contains(w)).cloned().collect::<Vec<_>>());
    }
    said.sort_by_key(|p| (p.severity, p.span.as_ref().map(|s| (s.line, s.column))));
    Err(Failure { kind: Kind::Problems, problems: said })
}

/// Looks at what people start: by content, and with the right to be started.
fn can_be_started(project: &Project, product: &mut Product, payload: &mut Payload) -> Vec<Problem> {
    let at = |key: &str| project.manifest.program.iter().position(|p| p.key == key);
    let span = |key: &str| at(key).and_then(|n| project.source.span(&format!("program.{n}.file")));
    let mut said = Vec::new();
    let problems = kinds::check(&product.footprint.programs, payload, product.platform, &span, &mut |key, why| {
        let key = at(key).map_or_else(|| key.to_owned(), |n| format!("program.{n}.file"));
        said.push(Default { key, value: "mode 755".into(), why });
    });
    product.defaults.extend(said);
    problems
}

/// The smallest macOS, where the manifest is silent: what the code was built for.
fn smallest_system(product: &mut Product, payload: &Payload) {
    if product.footprint.install.minimum_macos.is_some() {
        return;
    }
    if let Some(version) = bundle::code::smallest_system(&payload.files, product.platform) {
        let why = "the code in the payload was built for it".into();
        product.defaults.push(Default { key: "install.smallest-macos".into(), value: version.to_string(), why });
        product.footprint.install.minimum_macos = version.to_string().parse().ok();
    }
}

/// Puts icon and version into the programs that the manifest names for it.
fn brand_programs(project: &Project, product: &Product, payload: &mut Payload, icon: &Icon) -> Vec<Problem> {
    if product.platform.system() != crate::platform::System::Windows {
        return Vec::new();
    }
    let mut found = Vec::new();
    for (n, written) in project.manifest.program.iter().enumerate().filter(|(_, p)| p.brand) {
        let span = project.source.span(&format!("program.{n}.brand"));
        if let Some(program) = product.footprint.program(&written.key) {
            let problems = brand(payload, &program.file, &product.footprint.product, icon);
            found.extend(problems.into_iter().map(|p| p.at(span.clone())));
        }
    }
    found
}

/// Puts launchers for Windows into the payload; their programs are the launchers from then on.
fn launchers(project: &Project, product: &mut Product, payload: &mut Payload, icon: &Icon) -> Vec<Problem> {
    if product.platform.system() != crate::platform::System::Windows {
        return Vec::new();
    }
    let mut found = Vec::new();
    for (n, written) in project.manifest.program.iter().enumerate() {
        let Some(path) = &written.launcher else { continue };
        let span = project.source.span(&format!("program.{n}.launcher"));
        let Some(mut program) = product.footprint.program(&written.key).cloned() else { continue };
        let problems = launcher::add(payload, product.platform, path, &mut program, &product.footprint.product, icon);
        found.extend(problems.into_iter().map(|p| p.at(span.clone())));
        product.footprint.programs.extend([program]);
    }
    found
}

fn planned_packages(
    project: &Project,
    product: &Product,
    files: &[PayloadFile],
    footprint: &Footprint,
    icon: &Icon,
    found: &mut Vec<Problem>,
) -> Vec<PlannedPackage> {
    let mut packages = Vec::new();
    for &name in &product.targets {
        let target = targets::target(name);
        let (carried, losses) = target.carry(footprint);
        let settings = &project.manifest.target;
        let job = job(product, files, &carried, icon, settings);
        for problem in target.check(&job) {
            found.push(problem);
        }
        let file_name = format!("{}{}", product.file_name, target.ending(settings));
        packages.push(PlannedPackage { target: name, file_name, carried, losses });
    }
    packages
}
