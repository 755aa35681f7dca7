//! From a project to packages, in order: everything is looked at and checked (`plan`) before the first byte is packed;
//! each package is written beside its place (`partial`), read back, and only then given its name.

mod bundle;
mod partial;
mod permissions;
mod plan;
mod seal;

use crate::budget::Package;
use crate::content::ContentHash;
use crate::footprint::{Footprint, Identity, RelPath};
use crate::manifest::{Project, lock};
use crate::payload::Share;
use crate::payload::feed;
use crate::platform::{Platform, System};
use crate::problem::{Code, Failure, Kind, Problem};
use crate::settings::TargetName;
use crate::signing::{self, Elsewhere, ForeignSignature, OpenPgp, SignatureFacts, Signer};
use crate::targets::{self, Depth, Job, Loss};
use partial::{Page, Partial, clear_left_behind};
use serde::Serialize;
use std::collections::HashMap;
use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

pub use permissions::Permitted;
pub use plan::{Options, Plan, PlannedPackage, plan, sources_of};

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
#[derive(Debug, Clone, Serialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Built {
    /// The file.
    pub file: PathBuf,
    /// The page beside it, of formats that have one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub page: Option<PathBuf>,
    /// The format.
    pub target: TargetName,
    /// The platform; of a bundle that of its first package.
    pub platform: Platform,
    /// The packages that are in it, of a bundle.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub packages: Vec<PathBuf>,
    /// Files that belong to it and lie beside it: cabinets without which it can't be installed, the system's file for updates.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub sidecars: Vec<PathBuf>,
    /// Its length and that of the files beside it, bytes.
    pub bytes: u64,
    /// Plain bytes of its files.
    pub plain_bytes: u64,
    /// BLAKE3 of the package.
    pub blake3: ContentHash,
    /// SHA-256 of the package, in hexadecimal digits.
    pub sha256: String,
    /// How long packing took, reading included.
    pub seconds: f64,
    /// How long reading it back took.
    pub verify_seconds: f64,
    /// Who signed it, and when.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub signature: Option<SignatureFacts>,
    /// How many of its programs and libraries were signed with it.
    pub signed_programs: u64,
    /// Those that others have signed; they are as they were.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub foreign_signatures: Vec<ForeignSignature>,
    /// What each layer brings.
    pub layers: Vec<Share>,
    /// The biggest files.
    pub biggest: Vec<BigFile>,
    /// What it can't carry.
    pub losses: Vec<Loss>,
}

/// One of the biggest files.
#[derive(Debug, Clone, Serialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct BigFile {
    /// Its path.
    pub path: RelPath,
    /// Plain bytes.
    pub bytes: u64,
}

/// Builds all packages of all plans into a folder. With a file for `digests` no key is needed: what has to be signed is listed
/// there, and taken from there when it is signed.
///
/// # Errors
/// The first thing that goes wrong; no package that was not whole has its name then. [`Kind::Awaited`] when signatures are
/// missing that have to come from elsewhere; no package of a platform that waits has its name then.
pub fn build(
    project: &Project,
    plans: Vec<Plan>,
    output: &Path,
    threads: usize,
    digests: Option<&Path>,
    progress: &dyn Progress,
) -> Result<Vec<Built>, Failure> {
    let elsewhere = digests.map(Elsewhere::open).transpose()?.map(Arc::new);
    let result = build_all(project, plans, output, threads, elsewhere.as_ref(), progress);
    let is_stopped = result.as_ref().err().is_none_or(|failure| failure.kind == Kind::Awaited);
    if let Some(elsewhere) = elsewhere.filter(|_| is_stopped) {
        elsewhere.save()?;
    }
    result
}

fn build_all(
    project: &Project,
    plans: Vec<Plan>,
    output: &Path,
    threads: usize,
    elsewhere: Option<&Arc<Elsewhere>>,
    progress: &dyn Progress,
) -> Result<Vec<Built>, Failure> {
    let mut signers = Vec::new();
    for plan in &plans {
        let settings = plan.product.signing.as_ref().filter(|settings| settings.system != System::Linux);
        let open = |settings| Signer::open(settings, &plan.product.footprint.product, elsewhere);
        signers.push(settings.map(open).transpose()?);
    }
    let of_sums = project.signing(System::Linux);
    let of_sums = of_sums.map(|settings| Signer::open(&settings, &Identity::default(), elsewhere)).transpose()?;
    let by_key = project.openpgp().map(|settings| OpenPgp::of_product(&settings)).transpose()?;
    if elsewhere.is_some() && of_sums.is_none() && signers.iter().all(Option::is_none) {
        let problem = Problem::error(Code::WrongUse, "nothing that is built here is signed with a key");
        let instead =
            "[signing.windows], [signing.macos] or [signing.linux] in the manifest; or build without --digests";
        return Err(Failure::new(Kind::Problems, problem.instead(instead)));
    }
    fs::create_dir_all(output).map_err(|e| Failure::io("can't create the output folder", output, e))?;
    clear_left_behind(output);
    let of_bundle = plans.iter().map(|plan| &plan.product.settings.msix).find(|msix| msix.bundle).cloned();
    let mut built = Vec::new();
    for (plan, signer) in plans.into_iter().zip(signers) {
        // A platform that waits for signatures doesn't keep the others from asking for theirs.
        built.extend(
            signing::later(build_platform(plan, (signer.as_ref(), by_key.as_ref()), output, threads, progress))?
                .into_iter()
                .flatten(),
        );
    }
    elsewhere.map_or(Ok(()), |elsewhere| elsewhere.stop())?;
    if let Some(msix) = of_bundle {
        let said = (&msix.languages[..], msix.app_installer.as_ref());
        built.extend(bundle::bundle(project, &built, said, (output, threads), elsewhere)?);
    }
    if of_sums.is_some() || by_key.is_some() {
        put_sums(&built, of_sums.as_ref(), by_key.as_ref(), output)?;
    }
    lock::remember(project)?;
    Ok(built)
}

/// The list of all packages of a build and of what belongs to them, in the form of `sha256sum`, and its signatures.
fn put_sums(built: &[Built], signer: Option<&Signer>, by_key: Option<&OpenPgp>, output: &Path) -> Result<(), Failure> {
    let mut lines: Vec<String> = Vec::new();
    for one in built {
        let mut add = |file: &Path, sha256: &str| {
            let name = file.file_name().unwrap_or_default().to_string_lossy();
            lines.push(format!("{name}\0{sha256}  {name}\n"));
        };
        add(&one.file, &one.sha256);
        for file in one.sidecars.iter().chain(&one.page) {
            add(file, &hashes_of(file).map_err(|e| Failure::io("can't read", file, e))?.1);
        }
    }
    // In the order of their names.
    lines.sort();
    let text: String = lines.iter().filter_map(|line| Some(line.split_once('\0')?.1)).collect();
    let list = output.join(signing::SUMS);
    let mut sums = Partial::create(output, signing::SUMS)?;
    let trouble = |e: std::io::Error| Failure::io("can't write", &list, e);
    std::io::Write::write_all(&mut sums.file, text.as_bytes()).map_err(trouble)?;
    let signature = signer.map(|signer| signer.beside(&sums.path, signing::SUMS)).transpose()?;
    let by_key = by_key.map(|key| key.beside(&sums.path, signing::now())).transpose()?.map(String::into_bytes);
    let mut besides = Vec::new();
    for (own, signature) in [(signing::signature_of(&list), signature), (signing::openpgp_signature_of(&list), by_key)]
    {
        if let Some(signature) = signature {
            let mut beside = Partial::create(output, &own.file_name().unwrap_or_default().to_string_lossy())?;
            std::io::Write::write_all(&mut beside.file, &signature).map_err(trouble)?;
            besides.push((own.clone(), beside));
        }
        // A list never lies beside the signature of another one.
        partial::take_away(&own)?;
    }
    sums.finish(&list, false)?;
    besides.into_iter().try_for_each(|(own, beside)| beside.finish(&own, false))
}

fn build_platform(
    mut plan: Plan,
    (signer, by_key): (Option<&Signer>, Option<&OpenPgp>),
    output: &Path,
    threads: usize,
    progress: &dyn Progress,
) -> Result<Vec<Built>, Failure> {
    let began = Instant::now();
    let names: Vec<&str> = plan.packages.iter().map(|p| p.file_name.as_str()).collect();
    let partials: Vec<Partial> = names.iter().map(|name| Partial::create(output, name)).collect::<Result<_, _>>()?;
    let signed = if plan.product.platform.system() == System::Macos {
        let outcome = plan.seal(signer, threads)?;
        (outcome.code, outcome.foreign_signatures())
    } else {
        signer.map(|signer| plan.sign(signer, threads)).transpose()?.unwrap_or_default()
    };
    if let Some(signer) = signer.filter(|signer| signer.is_elsewhere()) {
        // What formats bring along is asked for together with the product's own programs.
        for package in &plan.packages {
            let job = Job { signer: Some(signer), ..plan.job(package) };
            signing::later(targets::target(package.target).sign_own_programs(&job))?;
        }
        signer.stop()?;
    }
    let names: Vec<&str> = plan.packages.iter().map(|p| p.file_name.as_str()).collect();
    progress.begin(&names, plan.all_files().iter().map(|f| f.size).sum());
    // What the packages carry is all that counts now; with very many files a footprint takes much memory.
    plan.footprint = Footprint::default();
    let (outlets, streams) = feed::streams(plan.packages.iter().map(PlannedPackage::keeps_further_names));
    let stop = AtomicBool::new(false);
    let besides: Vec<Mutex<Vec<(PathBuf, Partial)>>> = partials.iter().map(|_| Mutex::default()).collect();
    // Several packages share the processors; each has one thread at least.
    let share = (threads / plan.packages.len().max(1)).max(1);
    let write = |package: &PlannedPackage, partial: &Partial, stream, beside: &Mutex<Vec<(PathBuf, Partial)>>| {
        let out =
            |partial: &Partial| partial.file.try_clone().map_err(|e| Failure::io("can't write", &partial.path, e));
        let job = Job {
            threads: share,
            signer,
            sidecar: &|name| {
                let partial = Partial::create(output, name)?;
                let out = out(&partial)?;
                beside.lock().unwrap_or_else(PoisonError::into_inner).push((output.join(name), partial));
                Ok(out)
            },
            ..plan.job(package)
        };
        let result = out(partial).and_then(|out| targets::target(package.target).write(&job, stream, out));
        if result.is_err() {
            stop.store(true, Ordering::Relaxed);
        }
        result
    };
    let (hashes, written) = std::thread::scope(|scope| {
        let (write, stop) = (&write, &stop);
        let feeding = scope.spawn(|| feed::feed(plan.all_files(), outlets, stop, &|n| progress.advance(n)));
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
    set_hashes(&mut plan, &hashes);
    // Nothing is read any more: with very many files their places take much memory.
    let files = std::mem::take(&mut plan.payload.files).into_iter();
    let mut biggest: Vec<BigFile> = files.map(|f| BigFile { path: f.path, bytes: f.size }).collect();
    biggest.sort_by(|a, b| b.bytes.cmp(&a.bytes).then_with(|| a.path.cmp(&b.path)));
    biggest.truncate(5);
    biggest.shrink_to_fit();
    let packages = std::mem::take(&mut plan.packages);
    let mut partials = partials;
    let mut signatures = vec![None; packages.len()];
    if let Some(signer) = signer {
        for ((package, partial), signature) in packages.iter().zip(&mut partials).zip(&mut signatures) {
            *signature = signing::later(signed_package(signer, package, partial))?.flatten();
        }
        signer.stop()?;
    }
    if let Some(key) = by_key {
        for ((package, partial), signature) in packages.iter().zip(&mut partials).zip(&mut signatures) {
            if package.target == TargetName::Appimage {
                *signature = key.appimage(&partial.path, &mut partial.file, signing::now())?;
            }
        }
    }
    let mut built = Vec::new();
    for (((package, partial), beside), signature) in packages.into_iter().zip(partials).zip(besides).zip(signatures) {
        let beside = beside.into_inner().unwrap_or_else(PoisonError::into_inner);
        let mut one = finish_package(&plan, package, (partial, beside), output, &biggest, seconds)?;
        (one.signature, one.signed_programs, one.foreign_signatures) = (signature, signed.0, signed.1.clone());
        built.push(one);
    }
    progress.end();
    Ok(built)
}

/// Signs a package. Archives have no signature of their own.
fn signed_package(
    signer: &Signer,
    package: &PlannedPackage,
    partial: &mut Partial,
) -> Result<Option<SignatureFacts>, Failure> {
    if !signing::is_signed(package.target) {
        return Ok(None);
    }
    let name = &package.file_name;
    if package.target == TargetName::Dmg {
        let identifier = package.carried.product.id.clone().unwrap_or_default();
        signing::macos::sign_image(signer.key(), &identifier, &mut partial.file, Path::new(name))?;
    } else {
        signer.package(&partial.path, name, &mut partial.file)?;
    }
    signer.holds(&partial.path).map(Some)
}

fn finish_package(
    plan: &Plan,
    package: PlannedPackage,
    (partial, beside): (Partial, Vec<(PathBuf, Partial)>),
    output: &Path,
    biggest: &[BigFile],
    took: Duration,
) -> Result<Built, Failure> {
    let began = Instant::now();
    let target = targets::target(package.target);
    let findings = target.findings(&Package::of_ours(&partial.path))?;
    if !findings.is_empty() {
        let problem = Problem::error(Code::FormatRules, format!("{} breaks rules of its format", package.file_name));
        return Err(Failure::new(
            Kind::Machine,
            problem.why(findings.join("; ")).instead("this is a bug in the tool: please report it"),
        ));
    }
    reads_back(&package, &partial.path)?;
    let verify = began.elapsed();
    let trouble = |e: std::io::Error| Failure::io("can't read", &partial.path, e);
    let (blake3, sha256) = hashes_of(&partial.path).map_err(trouble)?;
    let mut bytes = partial.file.metadata().map_err(trouble)?.len();
    let file = output.join(&package.file_name);
    let page = target.page(&partial.path, &package.file_name, &package.carried)?;
    let page = page.map(|(ending, text)| Page::begin(output, &format!("{}{ending}", package.file_name), &text));
    let page = page.transpose()?;
    if !beside.is_empty() {
        // A package and what belongs to it can't get their names at one moment. An older one goes first: at no moment
        // does a package lie beside files of another build.
        partial::take_away(&file)?;
    }
    let mut with_package = Vec::new();
    for (path, partial) in beside {
        bytes += partial.file.metadata().map_err(trouble)?.len();
        partial.finish(&path, false)?;
        with_package.push(path);
    }
    partial.finish(&file, package.target == TargetName::Appimage)?;
    // The page describes what is there: it comes last.
    let described = page.map(Page::finish).transpose()?;
    partial::clear_beside(&file, &with_package);
    Ok(Built {
        file,
        page: described,
        sidecars: with_package,
        target: package.target,
        platform: plan.product.platform,
        packages: Vec::new(),
        bytes,
        plain_bytes: package.carried.size(),
        blake3,
        sha256,
        seconds: took.as_secs_f64(),
        verify_seconds: verify.as_secs_f64(),
        signature: None,
        signed_programs: 0,
        foreign_signatures: Vec::new(),
        layers: plan.payload.shares.clone(),
        biggest: biggest.to_vec(),
        losses: package.losses,
    })
}

/// BLAKE3 and SHA-256 of a file, which is read once.
fn hashes_of(path: &Path) -> std::io::Result<(ContentHash, String)> {
    use sha2::Digest;
    let (mut blake3, mut sha256) = (blake3::Hasher::new(), sha2::Sha256::new());
    let mut file = File::open(path)?;
    let mut buffer = vec![0; 1 << 18];
    loop {
        let n = std::io::Read::read(&mut file, &mut buffer)?;
        if n == 0 {
            break;
        }
        blake3.update(&buffer[..n]);
        sha256.update(&buffer[..n]);
    }
    let digits = sha256.finalize().iter().map(|byte| format!("{byte:02x}")).collect();
    Ok((ContentHash(*blake3.finalize().as_bytes()), digits))
}

/// What the packages carry, with the hashes that are known after reading.
fn set_hashes(plan: &mut Plan, hashes: &[ContentHash]) {
    let mut packages = std::mem::take(&mut plan.packages);
    let known: HashMap<&RelPath, ContentHash> =
        plan.all_files().iter().zip(hashes).map(|(f, h)| (&f.path, *h)).collect();
    for package in &mut packages {
        package.carried.set_hashes(|path| known.get(path).copied());
    }
    plan.packages = packages;
}

fn joined<T>(thread: std::thread::ScopedJoinHandle<'_, T>) -> T {
    thread.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))
}

/// Reads a package and compares it with what it was written from.
fn reads_back(package: &PlannedPackage, path: &Path) -> Result<(), Failure> {
    let target = targets::target(package.target);
    let seen = target.read(&Package::of_ours(path), Depth::Contents)?;
    let difference = seen.map(|seen| package.carried.difference(&seen));
    if difference.as_ref().is_none_or(|d| !d.is_empty()) {
        let problem =
            Problem::error(Code::ReadBack, format!("{} doesn't read back as it was written", package.file_name));
        let why = difference.map_or_else(
            || "it is not recognised".to_owned(),
            |d| format!("{:?}", d.changes.first().map_or_else(|| format!("{:?}", d.identity), |c| format!("{c:?}"))),
        );
        let problem = problem
            .why(why)
            .instead("build again; if that doesn't help, the disk is faulty or this is a bug in the tool");
        return Err(Failure::new(Kind::Machine, problem));
    }
    Ok(())
}
