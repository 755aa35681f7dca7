//! A whole tree: its code is signed, and the bundles in it are sealed from the inside out.

use super::code::{Again, CodeSigner, Known, Standing, With, standing};
use super::tree::{BundleFolder, Item, Open, SEAL, Tree, is_of_the_seal};
use crate::footprint::RelPath;
use crate::payload::Source;
use crate::problem::{Code, Failure, Problem};
use crate::signing::file::unreadable as unsignable;
use crate::signing::{ForeignSignature, later, parallel};
use code_signature::{Entitlements, Place, Rules, Seal, Sealed};
use mach_o::SignedParts;
use read_at::Cursor;
use sha2::Digest;
use std::collections::{BTreeMap, BTreeSet};
use std::io::Read;
use std::path::Path;

/// Stands in the place of a name where a bundle was sealed, and nobody signed it.
pub const AD_HOC: &str = "ad hoc";

/// What became of a tree.
#[derive(Debug, Default)]
pub struct Outcome {
    /// What is another file now, or new.
    pub changed: BTreeSet<String>,
    /// How many programs and libraries were signed.
    pub code: u64,
    /// What others have signed, and stays as it is: a program, or a whole bundle.
    pub foreign: Vec<(String, String)>,
    /// What a Mac will not like.
    pub warnings: Vec<Problem>,
}

impl Outcome {
    /// What others have signed.
    pub fn foreign_signatures(&self) -> Vec<ForeignSignature> {
        let all = self.foreign.iter();
        all.filter_map(|(path, by)| Some(ForeignSignature { path: RelPath::new(path.as_str()).ok()?, by: by.clone() }))
            .collect()
    }
}

/// Who signed code of a tree, if somebody did.
pub(in crate::signing) fn signer_of(tree: &Tree, path: &str) -> code_signature::Result<Option<String>> {
    let (Some(Item::File(source)), Some(parts)) = (tree.0.get(path), tree.code(path)?) else { return Ok(None) };
    Ok(match standing(source, &parts)?.0 {
        Standing::Somebody(by) => Some(by),
        Standing::Nobody => None,
    })
}

/// Where everything in a tree stands, before anything is signed.
struct Survey {
    /// Bundles, those inside of others first.
    bundles: Vec<BundleFolder>,
    code: BTreeMap<String, SignedParts>,
    /// What others have signed and what is below it.
    kept: Vec<String>,
    foreign: Vec<(String, String)>,
    known: BTreeMap<String, Known>,
    /// What programs are allowed already, though nobody signed them.
    own: BTreeMap<String, Entitlements>,
    warnings: Vec<Problem>,
}

impl Survey {
    fn is_kept(&self, path: &str) -> bool {
        self.kept
            .iter()
            .any(|node| path.strip_prefix(node.as_str()).is_some_and(|rest| rest.is_empty() || rest.starts_with('/')))
    }
}

fn unreadable(path: &str, e: std::io::Error) -> Failure {
    Failure::io("can't read", Path::new(path), e)
}

/// What is there, and what of it will be signed.
fn survey(tree: &Tree, again: Again) -> Result<Survey, Failure> {
    let (code, bad) = tree.all_code().map_err(|e| unsignable(Path::new("the product"), e))?;
    let warnings = bad.into_iter().map(|(path, e)| {
        let problem = Problem::warning(Code::NotSignable, format!("{path} can't be signed")).why(e.to_string());
        problem.instead("build it again; a Mac with Apple's own processor starts nothing unsigned")
    });
    let warnings = warnings.collect();
    let bundles = tree.bundles();
    let mut survey = Survey {
        bundles,
        code,
        kept: Vec::new(),
        foreign: Vec::new(),
        known: BTreeMap::new(),
        own: BTreeMap::new(),
        warnings,
    };
    let look = |path: &str, parts: &SignedParts| match tree.0.get(path) {
        Some(Item::File(source)) => standing(source, parts).map_err(|e| unreadable(path, e)),
        _ => Ok((Standing::Nobody, Known { hashes: Vec::new(), requirement: String::new() }, None)),
    };
    // The outermost first: what is in a bundle that stays stays with it.
    for bundle in survey.bundles.clone().iter().rev() {
        let Some((main, parts)) = bundle.main.as_ref().and_then(|main| Some((main, survey.code.get(main)?))) else {
            continue;
        };
        let (who, known, _) = look(main, parts)?;
        // What came finished and sealed stays as it is even if nobody vouches for it.
        let by = match who {
            Standing::Somebody(by) => Some(by),
            Standing::Nobody => (!bundle.node.contains('/') && again == Again::Code).then(|| AD_HOC.to_owned()),
        };
        if let Some(by) = by.filter(|_| again != Again::All && tree.0.contains_key(&bundle.seal())) {
            if !survey.is_kept(&bundle.node) {
                survey.foreign.push((bundle.node.clone(), by));
            }
            survey.kept.push(bundle.node.clone());
            survey.known.insert(bundle.node.clone(), known);
        }
    }
    for (path, parts) in survey.code.clone() {
        if survey.is_kept(&path) {
            continue;
        }
        let (who, known, entitlements) = look(&path, &parts)?;
        match who {
            Standing::Somebody(by)
                if again != Again::All && !survey.bundles.iter().any(|b| b.main.as_ref() == Some(&path)) =>
            {
                survey.foreign.push((path.clone(), by));
                survey.kept.push(path.clone());
                survey.known.insert(path, known);
            }
            // What somebody else's certificate allowed is not ours to grant; what the tool that built it did is.
            Standing::Somebody(_) => {}
            Standing::Nobody => survey.own.extend(entitlements.map(|e| (path, e))),
        }
    }
    Ok(survey)
}

impl CodeSigner<'_> {
    /// Signs everything in a tree.
    ///
    /// # Errors
    /// A file can't be read, or the key or the clock fail.
    pub fn seal(&self, tree: &mut Tree, threads: usize) -> Result<Outcome, Failure> {
        let mut survey = survey(tree, self.again)?;
        let mut outcome = Outcome::default();
        let mains: BTreeSet<&String> =
            survey.bundles.iter().filter(|b| !survey.is_kept(&b.node)).filter_map(|b| b.main.as_ref()).collect();
        let loose: Vec<&String> =
            survey.code.keys().filter(|path| !mains.contains(path) && !survey.is_kept(path)).collect();
        let signed = parallel::each(threads, &loose, |path| {
            let with = With { identifier: &self.identifier(path), ..With::default() };
            later(self.one(tree, path, &survey, with))
        })?;
        let loose: Vec<String> = loose.into_iter().cloned().collect();
        // Without their signatures nothing around them can be sealed.
        let mut waiting: Vec<String> = Vec::new();
        for (path, signed) in loose.into_iter().zip(signed) {
            let Some((item, known)) = signed else {
                waiting.push(path);
                continue;
            };
            tree.0.insert(path.clone(), item);
            survey.known.insert(path.clone(), known);
            outcome.changed.insert(path);
            outcome.code += 1;
        }
        for bundle in survey.bundles.clone() {
            if survey.is_kept(&bundle.node) {
                continue;
            }
            let Some(main) = &bundle.main else { continue };
            if waiting.iter().any(|path| path.strip_prefix(&bundle.base).is_some_and(|rest| rest.starts_with('/'))) {
                waiting.push(bundle.base.clone());
                continue;
            }
            let seal = self.seal_of(tree, &bundle, &mut survey, threads)?;
            let bytes = seal.to_bytes();
            let folder = format!("{}/{}", bundle.base, SEAL.split('/').next().unwrap_or_default());
            tree.0.entry(folder).or_insert(Item::Folder);
            tree.0.insert(bundle.seal(), Item::File(Source::Memory(bytes.clone().into())));
            outcome.changed.insert(bundle.seal());
            let info = tree.info(&bundle).map_err(|e| unsignable(Path::new(&bundle.info), e))?;
            let identifier = bundle.identifier.clone().unwrap_or_else(|| self.identifier(&bundle.node));
            let with = With { identifier: &identifier, info: Some(&info), seal: Some(&bytes), entitlements: None };
            let Some((item, known)) = later(self.one(tree, main, &survey, with))? else {
                waiting.push(main.clone());
                continue;
            };
            tree.0.insert(main.clone(), item);
            outcome.changed.insert(main.clone());
            outcome.code += 1;
            // Of a framework's versions the present one speaks for it.
            if tree.is_present(&bundle) {
                survey.known.insert(bundle.node.clone(), known.clone());
            }
            survey.known.insert(main.clone(), known);
        }
        if let Some(elsewhere) = self.key.and_then(|(_, how)| how.elsewhere.as_ref()) {
            elsewhere.stop()?;
        }
        (outcome.foreign, outcome.warnings) = (survey.foreign, survey.warnings);
        outcome.foreign.sort();
        outcome.warnings.dedup();
        Ok(outcome)
    }

    fn one(&self, tree: &Tree, path: &str, survey: &Survey, with: With) -> Result<(Item, Known), Failure> {
        let place = Path::new(path);
        let (Some(Item::File(source)), Some(parts)) = (tree.0.get(path), survey.code.get(path)) else {
            return Err(unreadable(path, std::io::ErrorKind::NotFound.into()));
        };
        // What a program was allowed when it was built stays.
        let mut entitlements = survey.own.get(path).cloned().unwrap_or_default();
        entitlements.0.extend(self.entitlements.0.iter().map(|(key, value)| (key.clone(), value.clone())));
        let with = With { entitlements: Some(&entitlements), ..with };
        let (overlay, known) = self.sign(source, parts, with, place)?;
        Ok((Item::File(Source::Changed(Box::new(source.clone()), overlay)), known))
    }

    /// What a bundle's seal says.
    fn seal_of(
        &self,
        tree: &Tree,
        bundle: &BundleFolder,
        survey: &mut Survey,
        threads: usize,
    ) -> Result<Seal, Failure> {
        let rules = Rules::usual();
        let main = bundle.main.as_deref().unwrap_or_default();
        let (mut seal, mut inside, mut to_hash) = (Seal::default(), Vec::<String>::new(), Vec::new());
        let nested = |known: &Known| {
            let code = known.hashes.first().copied().unwrap_or_default();
            Sealed::Nested { code, requirement: known.requirement.clone() }
        };
        for (path, item) in tree.below(&bundle.base) {
            let whole = format!("{}/{path}", bundle.base);
            if is_of_the_seal(path) || whole == main || inside.iter().any(|folder| path.starts_with(folder)) {
                continue;
            }
            let place = rules.place(path);
            match item {
                Item::Folder => {
                    let name = path.rsplit('/').next().unwrap_or_default();
                    if place != Place::Nested || !name.contains('.') {
                        continue;
                    }
                    if let Some(known) = survey.known.get(&whole) {
                        seal.0.insert(path.to_owned(), nested(known));
                        inside.push(format!("{path}/"));
                    } else {
                        let what = format!("{whole} is taken for a bundle, and is none that can be signed");
                        let problem = Problem::warning(Code::NotSignable, what);
                        let why =
                            "where programs are in a bundle, a Mac takes every folder with a dot in its name for one";
                        survey
                            .warnings
                            .push(problem.why(why).instead("a name without a dot, or a folder without code"));
                    }
                }
                Item::Link(target) if place != Place::Omitted => {
                    seal.0.insert(path.to_owned(), Sealed::Link(target.clone()));
                }
                Item::Link(_) => {}
                Item::File(source) => match (place, survey.known.get(&whole)) {
                    (Place::Omitted, _) => {}
                    (Place::Nested, Some(known)) => drop(seal.0.insert(path.to_owned(), nested(known))),
                    (Place::Resource { optional: true }, _) => to_hash.push((path, source, true)),
                    (Place::Resource { optional: false } | Place::Nested, _) => to_hash.push((path, source, false)),
                },
            }
        }
        let hashed = parallel::each(threads, &to_hash, |(path, source, optional)| {
            let (sha1, sha256) = digests(*source).map_err(|e| unreadable(path, e))?;
            Ok::<_, Failure>(((*path).to_owned(), Sealed::File { sha1: Some(sha1), sha256, optional: *optional }))
        })?;
        seal.0.extend(hashed);
        Ok(seal)
    }
}

/// SHA-1 and SHA-256 of a file, which is read once.
pub(super) fn digests(source: &impl Open) -> std::io::Result<([u8; 20], [u8; 32])> {
    let file = source.open()?;
    let (mut first, mut second) = (sha1::Sha1::new(), sha2::Sha256::new());
    let mut buffer = vec![0; (1 << 18).min(file.length()? as usize + 1)];
    let mut reader = Cursor::new(&file);
    loop {
        match reader.read(&mut buffer)? {
            0 => return Ok((first.finalize().into(), second.finalize().into())),
            n => {
                first.update(&buffer[..n]);
                second.update(&buffer[..n]);
            }
        }
    }
}
