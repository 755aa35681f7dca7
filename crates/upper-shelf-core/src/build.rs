//! From a project to packages, in order: everything is looked at and checked before the first byte is packed; each
//! package is written beside its place, read back, and only then given its name.

use crate::content::ContentHash;
use crate::footprint::{Footprint, RelPath, Trace};
use crate::icons::Icon;
use crate::manifest::resolve::{Default, Product};
use crate::manifest::written::{TargetName, TargetSettings};
use crate::manifest::{Project, lock};
use crate::payload::brand::brand;
use crate::payload::{Payload, feed, gather, launcher, universal};
use crate::platform::Platform;
use crate::problem::{Failure, Kind, Problem};
use crate::targets::{self, Depth, Job, Loss};
use serde::Serialize;
use std::collections::HashMap;
use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

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

/// Everything about one platform, before anything is written.
#[derive(Debug, Clone)]
pub struct Plan {
    /// What was resolved.
    pub product: Product,
    /// The files.
    pub payload: Payload,
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
    /// Further names of files: name, and the file it is a name of.
    pub fn links(&self) -> Vec<(RelPath, RelPath)> {
        let link = |t: &Trace| match t {
            Trace::HardLink { path, to } => Some((path.clone(), to.clone())),
            _ => None,
        };
        self.payload.others.iter().filter_map(link).collect()
    }

    /// What a package would be written from; nothing can be written beside it.
    pub fn job<'j>(
        &'j self,
        package: &'j PlannedPackage,
        links: &'j [(RelPath, RelPath)],
        settings: &'j TargetSettings,
    ) -> Job<'j> {
        job(&self.product, &self.payload, &package.carried, &self.icon, links, settings)
    }
}

fn job<'j>(
    product: &'j Product,
    payload: &'j Payload,
    footprint: &'j Footprint,
    icon: &'j Icon,
    links: &'j [(RelPath, RelPath)],
    settings: &'j TargetSettings,
) -> Job<'j> {
    Job {
        footprint,
        files: &payload.files,
        links,
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
        let (mut payload, more) = gather(&product.layers, platform);
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
        found.extend(brand_programs(project, &product, &mut payload, &icon));
        found.extend(launchers(project, &mut product, &mut payload, &icon));
        let icons = if platform.system() == crate::platform::System::Linux { icon.traces() } else { Vec::new() };
        let (footprint, more) = product.footprint(&payload, &icons, &project.source);
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
        let packages = planned_packages(project, &product, &payload, &footprint, &icon, &mut found);
        let mut defaults = product.defaults.clone();
        defaults.extend(chosen.clone());
        let (errors, warnings): (Vec<Problem>, Vec<Problem>) = found.into_iter().partition(Problem::is_error);
        problems.extend(errors);
        plans.push(Plan { product, payload, footprint, icon, packages, defaults, warnings });
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

/// Puts icon and version into the programs that the manifest names for it.
fn brand_programs(project: &Project, product: &Product, payload: &mut Payload, icon: &Icon) -> Vec<Problem> {
    if product.platform.system() != crate::platform::System::Windows {
        return Vec::new();
    }
    let mut found = Vec::new();
    for (n, written) in project.manifest.program.iter().enumerate().filter(|(_, p)| p.brand) {
        let span = project.source.span(&format!("program.{n}.brand"));
        for trace in &product.traces {
            if let Trace::Program { key, file, .. } = trace
                && *key == written.key
            {
                let problems = brand(payload, file, &product.identity, icon);
                found.extend(problems.into_iter().map(|p| p.at(span.clone())));
            }
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
        for trace in &mut product.traces {
            if matches!(trace, Trace::Program { key, .. } if *key == written.key) {
                let problems = launcher::add(payload, product.platform, path, trace, &product.identity, icon);
                found.extend(problems.into_iter().map(|p| p.at(span.clone())));
            }
        }
    }
    found
}

fn planned_packages(
    project: &Project,
    product: &Product,
    payload: &Payload,
    footprint: &Footprint,
    icon: &Icon,
    found: &mut Vec<Problem>,
) -> Vec<PlannedPackage> {
    let mut packages = Vec::new();
    for &name in &product.targets {
        let target = targets::target(name);
        let (carried, losses) = target.carry(footprint);
        let settings = &project.manifest.target;
        let job = job(product, payload, &carried, icon, &[], settings);
        for problem in target.check(&job) {
            let place = if problem.what.contains("program") { "program" } else { "target" };
            let span = project.source.span(place);
            found.push(if problem.span.is_none() { problem.at(span) } else { problem });
        }
        let file_name = format!("{}{}", product.file_name, target.ending(settings));
        packages.push(PlannedPackage { target: name, file_name, carried, losses });
    }
    packages
}

/// Hears how far a build is.
pub trait Progress: Sync {
    /// A platform's packages begin: their names, and how many plain bytes there are.
    fn begin(&self, packages: &[&str], bytes: u64);
    /// So many more plain bytes were read.
    fn advance(&self, bytes: u64);
    /// The packages are read back now.
    fn verifying(&self);
    /// The platform is done.
    fn end(&self);
}

/// A finished package.
#[derive(Debug, Clone, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct Built {
    /// The file.
    pub file: PathBuf,
    /// The page beside it, of formats that have one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub page: Option<PathBuf>,
    /// The format.
    pub target: TargetName,
    /// The platform.
    pub platform: Platform,
    /// Files without which it can't be installed, which lie beside it.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub beside: Vec<PathBuf>,
    /// Its length and that of the files beside it, bytes.
    pub bytes: u64,
    /// Plain bytes of its files.
    pub plain_bytes: u64,
    /// BLAKE3 of the package.
    pub content: ContentHash,
    /// How long packing took, reading included.
    pub seconds: f64,
    /// How long reading it back took.
    pub verify_seconds: f64,
    /// Layers with their plain bytes and files.
    pub layers: Vec<(String, u64, u64)>,
    /// The biggest files, plain bytes.
    pub biggest: Vec<(RelPath, u64)>,
    /// What it can't carry.
    pub losses: Vec<Loss>,
}

const PARTIAL: &str = ".upper-shelf-partial";

/// Builds all packages of all plans into a folder.
///
/// # Errors
/// The first thing that goes wrong; no package that was not whole has its name then.
pub fn build(
    project: &Project,
    plans: Vec<Plan>,
    output: &Path,
    threads: usize,
    progress: &dyn Progress,
) -> Result<Vec<Built>, Failure> {
    fs::create_dir_all(output).map_err(|e| Failure::io("can't make the output folder", output, &e))?;
    clear_left_behind(output);
    let mut built = Vec::new();
    for plan in plans {
        built.extend(build_platform(project, plan, output, threads, progress)?);
    }
    lock::remember(project)?;
    Ok(built)
}

/// What a killed build left behind is nobody's: its lock went with it.
fn clear_left_behind(output: &Path) {
    for entry in fs::read_dir(output).into_iter().flatten().flatten() {
        let is_partial = entry.file_name().to_str().is_some_and(|n| n.starts_with('.') && n.ends_with(PARTIAL));
        if is_partial && File::open(entry.path()).is_ok_and(|f| f.try_lock().is_ok()) {
            let _ = fs::remove_file(entry.path());
        }
    }
}

/// Where a file lies that belongs beside a package; beside a package under way it is under way too.
pub(crate) fn beside(package: &Path, name: &str) -> PathBuf {
    let under_way = package.file_name().and_then(|n| n.to_str()).is_some_and(|n| n.ends_with(PARTIAL));
    package.with_file_name(if under_way { format!(".{name}{PARTIAL}") } else { name.to_owned() })
}

/// A package under way: removed unless it is finished.
struct Partial {
    file: File,
    path: PathBuf,
    finished: bool,
}

impl Partial {
    fn create(output: &Path, name: &str) -> Result<Self, Failure> {
        let path = output.join(format!(".{name}{PARTIAL}"));
        let trouble = |e: std::io::Error| Failure::io("can't write", &path, &e);
        for _ in 0..20 {
            let file =
                File::options().read(true).write(true).create(true).truncate(false).open(&path).map_err(trouble)?;
            if file.try_lock().is_err() {
                let problem = Problem::error(format!("another build is writing {name}")).on(&path);
                return Err(Failure::new(Kind::Busy, problem.instead("wait for it, or choose another output folder")));
            }
            // Between opening and locking somebody may have finished with this very file.
            if fs::metadata(&path).is_ok_and(|m| same_file(&m, &file)) {
                file.set_len(0).map_err(trouble)?;
                return Ok(Self { file, path, finished: false });
            }
        }
        let problem = Problem::error(format!("other builds keep writing {name}")).on(&path);
        Err(Failure::new(Kind::Busy, problem.instead("wait for them, or choose another output folder")))
    }

    /// Syncs the file and gives it its name.
    fn finish(mut self, name: &Path, executable: bool) -> Result<(), Failure> {
        let trouble = |e: std::io::Error| Failure::io("can't finish", name, &e);
        #[cfg(unix)]
        if executable {
            use std::os::unix::fs::PermissionsExt;
            self.file.set_permissions(fs::Permissions::from_mode(0o755)).map_err(trouble)?;
        }
        let _ = executable;
        self.file.sync_all().map_err(trouble)?;
        fs::rename(&self.path, name).map_err(trouble)?;
        self.finished = true;
        #[cfg(unix)]
        if let Some(folder) = name.parent() {
            // The name is as safe as the folder that holds it; not all file systems can be asked for that.
            let _ = File::open(folder).and_then(|f| f.sync_all());
        }
        Ok(())
    }
}

impl Drop for Partial {
    fn drop(&mut self) {
        if !self.finished {
            let _ = fs::remove_file(&self.path);
        }
    }
}

#[cfg(unix)]
fn same_file(meta: &fs::Metadata, file: &File) -> bool {
    use std::os::unix::fs::MetadataExt;
    file.metadata().is_ok_and(|m| (m.dev(), m.ino()) == (meta.dev(), meta.ino()))
}

#[cfg(not(unix))]
fn same_file(_: &fs::Metadata, _: &File) -> bool {
    true
}

fn build_platform(
    project: &Project,
    mut plan: Plan,
    output: &Path,
    threads: usize,
    progress: &dyn Progress,
) -> Result<Vec<Built>, Failure> {
    let began = Instant::now();
    let names: Vec<&str> = plan.packages.iter().map(|p| p.file_name.as_str()).collect();
    let partials: Vec<Partial> = names.iter().map(|name| Partial::create(output, name)).collect::<Result<_, _>>()?;
    progress.begin(&names, plan.footprint.size());
    // What the packages carry is all that counts now; with very many files a footprint takes much memory.
    plan.footprint = Footprint::default();
    let links = plan.links();
    let (senders, streams) = feed::streams(plan.packages.len());
    let stop = AtomicBool::new(false);
    let besides: Vec<Mutex<Vec<(PathBuf, Partial)>>> = partials.iter().map(|_| Mutex::default()).collect();
    // Several packages share the processors; each has one thread at least.
    let share = (threads / plan.packages.len().max(1)).max(1);
    let write = |package: &PlannedPackage, partial: &Partial, stream, beside: &Mutex<Vec<(PathBuf, Partial)>>| {
        let out =
            |partial: &Partial| partial.file.try_clone().map_err(|e| Failure::io("can't write", &partial.path, &e));
        let job = Job {
            threads: share,
            beside: &|name| {
                let partial = Partial::create(output, name)?;
                let out = out(&partial)?;
                beside.lock().unwrap_or_else(PoisonError::into_inner).push((output.join(name), partial));
                Ok(out)
            },
            ..plan.job(package, &links, &project.manifest.target)
        };
        let result = out(partial).and_then(|out| targets::target(package.target).write(&job, stream, out));
        if result.is_err() {
            stop.store(true, Ordering::Relaxed);
        }
        result
    };
    let (hashes, written) = std::thread::scope(|scope| {
        let (write, stop) = (&write, &stop);
        let feeding = scope.spawn(|| feed::feed(&plan.payload.files, senders, stop, &|n| progress.advance(n)));
        let mut jobs = plan.packages.iter().zip(&partials).zip(streams).zip(&besides);
        let first = jobs.next();
        let others: Vec<_> = jobs
            .map(|(((package, partial), stream), beside)| scope.spawn(move || write(package, partial, stream, beside)))
            .collect();
        // One is written here: what it takes from this thread's heap, reading it back takes again.
        let mut written: Vec<Result<(), Failure>> = Vec::new();
        written.extend(first.map(|(((package, partial), stream), beside)| write(package, partial, stream, beside)));
        written.extend(others.into_iter().map(joined));
        (joined(feeding), written)
    });
    // A feed that broke off makes its writers fail too: its own reason is the one that matters.
    let hashes = hashes?;
    written.into_iter().collect::<Result<Vec<()>, _>>()?;
    let seconds = began.elapsed();
    progress.verifying();
    set_hashes(&mut plan, &hashes, &links);
    // Nothing is read any more: with very many files their places take much memory.
    let mut biggest: Vec<(RelPath, u64)> =
        std::mem::take(&mut plan.payload.files).into_iter().map(|f| (f.path, f.size)).collect();
    biggest.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
    biggest.truncate(5);
    biggest.shrink_to_fit();
    let mut built = Vec::new();
    for ((package, partial), beside) in std::mem::take(&mut plan.packages).into_iter().zip(partials).zip(besides) {
        let beside = beside.into_inner().unwrap_or_else(PoisonError::into_inner);
        built.push(finish_package(&plan, package, (partial, beside), output, &biggest, seconds)?);
    }
    progress.end();
    Ok(built)
}

fn finish_package(
    plan: &Plan,
    package: PlannedPackage,
    (partial, beside): (Partial, Vec<(PathBuf, Partial)>),
    output: &Path,
    biggest: &[(RelPath, u64)],
    took: Duration,
) -> Result<Built, Failure> {
    let began = Instant::now();
    let target = targets::target(package.target);
    let faults = target.faults(&partial.path)?;
    if !faults.is_empty() {
        let problem = Problem::error(format!("{} breaks rules of its format", package.file_name));
        return Err(Failure::new(
            Kind::Machine,
            problem.why(faults.join("; ")).instead("this program is at fault: please report it"),
        ));
    }
    reads_back(&package, &partial.path)?;
    let verify = began.elapsed();
    let trouble = |e: std::io::Error| Failure::io("can't read", &partial.path, &e);
    let mut hasher = blake3::Hasher::new();
    hasher.update_reader(File::open(&partial.path).map_err(trouble)?).map_err(trouble)?;
    let mut bytes = partial.file.metadata().map_err(trouble)?.len();
    let file = output.join(&package.file_name);
    let mut described = None;
    if let Some((ending, text)) = target.page(&partial.path, &package.file_name, &package.carried)? {
        let page = output.join(format!("{}{ending}", package.file_name));
        let aside = output.join(format!(".{}{ending}{PARTIAL}", package.file_name));
        let written = fs::write(&aside, text).and_then(|()| fs::rename(&aside, &page));
        written.map_err(|e| Failure::io("can't write", &page, &e))?;
        described = Some(page);
    }
    // A package without what belongs to it can't be used: that comes first.
    let mut with_package = Vec::new();
    for (path, partial) in beside {
        bytes += partial.file.metadata().map_err(trouble)?.len();
        partial.finish(&path, false)?;
        with_package.push(path);
    }
    partial.finish(&file, package.target == TargetName::Appimage)?;
    Ok(Built {
        file,
        page: described,
        beside: with_package,
        target: package.target,
        platform: plan.product.platform,
        bytes,
        plain_bytes: package.carried.size(),
        content: ContentHash(*hasher.finalize().as_bytes()),
        seconds: took.as_secs_f64(),
        verify_seconds: verify.as_secs_f64(),
        layers: plan.payload.shares.clone(),
        biggest: biggest.to_vec(),
        losses: package.losses,
    })
}

/// What the packages carry, with the hashes that are known after reading.
fn set_hashes(plan: &mut Plan, hashes: &[ContentHash], links: &[(RelPath, RelPath)]) {
    let mut known: HashMap<&RelPath, ContentHash> =
        plan.payload.files.iter().zip(hashes).map(|(f, h)| (&f.path, *h)).collect();
    for (path, to) in links {
        if let Some(hash) = known.get(to).copied() {
            known.insert(path, hash);
        }
    }
    for package in &mut plan.packages {
        package.carried.set_hashes(|path| known.get(path).copied());
    }
}

fn joined<T>(thread: std::thread::ScopedJoinHandle<'_, T>) -> T {
    thread.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))
}

/// Reads a package and compares it with what it was written from.
fn reads_back(package: &PlannedPackage, path: &Path) -> Result<(), Failure> {
    let target = targets::target(package.target);
    let seen = target.read(path, Depth::Contents)?;
    let difference = seen.map(|seen| package.carried.difference(&seen));
    if difference.as_ref().is_none_or(|d| !d.is_empty()) {
        let problem = Problem::error(format!("{} does not read back as it was written", package.file_name));
        let why = difference.map_or_else(
            || "it is not recognised".to_owned(),
            |d| format!("{:?}", d.changes.first().map_or_else(|| format!("{:?}", d.identity), |c| format!("{c:?}"))),
        );
        let problem = problem.why(why).instead("build again; if it stays so, the disk or this program is at fault");
        return Err(Failure::new(Kind::Machine, problem));
    }
    Ok(())
}
