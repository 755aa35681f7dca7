//! A product's own key: looked at before anything is built, and used while packages are.

use super::file::{Signed, made, unreadable};
use super::identity::{Keys, identity};
use super::{Certificate, Clock, Elsewhere, Hash, SignatureFacts, clock, later, shown};
use crate::footprint::{Identity as ProductIdentity, RelPath};
use crate::payload::{PayloadFile, Source};
use crate::problem::{Code, Failure, Kind, Problem};
use crate::secret;
use crate::settings::{Digest, Signing, TargetName};
use pe_image::SignedParts;
use read_at::{Cursor, Overlay, ReadAt};
use schemars::JsonSchema;
use serde::Serialize;
use signatures::authenticode::{self, Imprint, Named, Subject};
use signatures::key::Identity;
use std::fs::File;
use std::path::Path;
use std::sync::Arc;

/// A program that somebody else has signed, and that stays as it is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct ForeignSignature {
    /// The program.
    pub path: RelPath,
    /// Who signed it.
    pub by: String,
}

/// A key that is ready to sign, with all that is said along with it.
pub struct Signer {
    who: Identity,
    how: Signed,
}

fn keys(settings: &Signing) -> Keys {
    Keys { key: settings.key.clone(), certificates: settings.certificates.clone() }
}

/// What is wrong with the key of a product, as far as that can be seen without its secret; `team` is the one that its
/// certificate has to be of. A key that is elsewhere is not looked for.
pub fn check(
    settings: &Signing,
    product: &ProductIdentity,
    team: Option<&str>,
    elsewhere: bool,
    now: u64,
) -> Vec<Problem> {
    let table = format!("signing.{}", settings.system.name());
    let about = |problem: Problem, key: &str| problem.about_setting(format!("{table}.{key}"));
    let mut all = Vec::new();
    let files = [("certificate", &settings.certificates), ("timestamp-roots", &settings.timestamp_roots)];
    for (key, path) in files.into_iter().filter_map(|(key, path)| Some((key, path.as_ref()?))) {
        let found = super::certificates(path).err();
        all.extend(found.into_iter().flat_map(|failure| failure.problems).map(|problem| about(problem, key)));
    }
    for (n, address) in settings.timestamps.iter().enumerate().filter(|(_, address)| !clock::is_address(address)) {
        let problem = Problem::error(Code::InvalidValue, format!("{address:?} is no address of an authority"));
        let problem = problem.why(clock::ADDRESSES);
        all.push(about(problem.instead("\"http://…\""), &format!("timestamps.{n}")));
    }
    if !all.is_empty() {
        return all;
    }
    let protected = std::cell::Cell::new(false);
    let ask = || {
        protected.set(true);
        Ok(unasked(settings))
    };
    let who = if elsewhere { super::elsewhere::identity(settings) } else { identity(&keys(settings), &ask) };
    match who {
        Ok(who) => {
            all.extend(super::warnings(&keys(settings), &who, now));
            all.extend(names_another(who.certificate(), product, &settings.key));
            if let Some(problem) = team.and_then(|team| not_of_team(who.certificate(), team)) {
                return vec![problem.about_setting(format!("{table}.team"))];
            }
        }
        Err(failure) if elsewhere => return failure.problems,
        Err(failure) => {
            for mut problem in failure.problems {
                if problem.instead.as_ref().is_some_and(|instead| instead.contains("--certificate")) {
                    problem.instead = Some("certificate = \"the file with the certificate of this very key\"".into());
                }
                // Whether its secret is right is seen when it is there.
                let is_missing = protected.get() && problem.code == Code::Secret;
                if is_missing {
                    problem.severity = crate::problem::Severity::Warning;
                    problem.instead = Some(match &settings.secret {
                        Some(place) => place.remedy(),
                        None => "secret-variable = \"NAME\"".into(),
                    });
                }
                all.push(problem);
            }
        }
    }
    all.into_iter().map(|problem| about(problem, "key")).collect()
}

/// The secret of a key, as far as it can be had without asking anybody: what a keyring holds is seen by the build.
fn unasked(settings: &Signing) -> Option<super::Secret> {
    settings.secret.as_ref().filter(|place| matches!(place, secret::Place::Variable(_))).and_then(|p| p.read().ok())
}

/// The subject of the certificate that a product's key has, as manifests of packages for Windows name it. Nothing where that is
/// not known without the key's secret, or can't be read: [`check`] says why.
pub fn publisher(settings: &Signing, elsewhere: bool) -> Option<String> {
    // A certificate of its own says it without the key.
    let who = match settings.certificates.is_some() || elsewhere {
        true => super::elsewhere::identity(settings),
        false => identity(&keys(settings), &|| Ok(unasked(settings))),
    };
    who.ok().map(|who| crate::app_manifest::subject_for_manifest(&who.certificate().subject()))
}

/// Whether a certificate names somebody else than the product's publisher: systems show the name in the certificate.
fn names_another(certificate: &Certificate, product: &ProductIdentity, key: &Path) -> Option<Problem> {
    let publisher = product.publisher.as_deref()?.to_lowercase();
    let names: Vec<String> = ["O", "CN"].iter().filter_map(|label| certificate.subject_part(label)).collect();
    let is_same = |name: &String| {
        let name = name.to_lowercase();
        name.contains(&publisher) || publisher.contains(&name)
    };
    if names.is_empty() || names.iter().any(is_same) {
        return None;
    }
    let what = format!("the certificate is of “{}”, and not of the publisher", shown(&names[0]));
    let problem = Problem::warning(Code::Certificate, what).on(key);
    let shown_by = "systems show the name in the certificate when they ask whether to trust the product";
    Some(problem.why(shown_by).instead(format!("publisher = {:?}", shown(&names[0]))))
}

/// Whether a certificate is of another team than it has to be.
fn not_of_team(certificate: &Certificate, team: &str) -> Option<Problem> {
    let own = certificate.subject_part("OU");
    if own.as_deref() == Some(team) {
        return None;
    }
    let what = match own {
        Some(own) => format!("the certificate is of the team {}, and not of {team}", shown(&own)),
        None => format!("the certificate names no team; it has to be of {team}"),
    };
    let problem = Problem::error(Code::Certificate, what);
    Some(problem.why("programs share data and libraries only within a team").instead("the certificate of that team"))
}

impl Signer {
    /// Gets a product's key ready; where there is a list for what is signed elsewhere, only its certificate.
    ///
    /// # Errors
    /// The key or its secret can't be used.
    pub fn open(
        settings: &Signing,
        product: &ProductIdentity,
        elsewhere: Option<&Arc<Elsewhere>>,
    ) -> Result<Self, Failure> {
        let ask = || {
            let secret = settings.secret.as_ref().map(|place| place.read()).transpose();
            secret.map_err(|problem| Failure::new(Kind::Problems, *problem))
        };
        let who = match elsewhere {
            Some(_) => super::elsewhere::identity(settings)?,
            None => identity(&keys(settings), &ask)?,
        };
        let roots: Option<Vec<Certificate>> =
            settings.timestamp_roots.as_deref().map(super::certificates).transpose()?;
        let clock = (!settings.timestamps.is_empty())
            .then(|| Clock { addresses: settings.timestamps.clone(), roots: roots.unwrap_or_default() });
        let hash = settings.digest.map(|digest| match digest {
            Digest::Sha256 => Hash::Sha256,
            Digest::Sha384 => Hash::Sha384,
            Digest::Sha512 => Hash::Sha512,
        });
        let named = Named { name: product.name.clone(), page: product.homepage.clone() };
        Ok(Self {
            who,
            how: Signed {
                hash,
                named,
                clock,
                elsewhere: elsewhere.map(|whole| Arc::new(whole.part())),
                page_hashes: settings.page_hashes,
                ..Signed::default()
            },
        })
    }

    /// Whether the key is elsewhere.
    pub fn is_elsewhere(&self) -> bool {
        self.how.elsewhere.is_some()
    }

    /// Stops a build that needs signatures from elsewhere which are not there yet.
    ///
    /// # Errors
    /// [`Kind::Awaited`].
    pub fn stop(&self) -> Result<(), Failure> {
        self.how.elsewhere.as_ref().map_or(Ok(()), |elsewhere| elsewhere.stop())
    }

    /// Signs the programs and libraries of a payload that nobody has signed: what the signature changes lies over their
    /// bytes. Says how many there are, and which others have signed. Those whose signatures are awaited stay as they are
    /// (see [`Signer::stop`]).
    ///
    /// # Errors
    /// A file can't be read, or the key or the clock fail.
    pub fn programs(&self, files: &mut [PayloadFile], threads: usize) -> Result<(u64, Vec<ForeignSignature>), Failure> {
        let all = super::parallel::each(threads, files, |file| later(self.program(file)))?;
        let (mut count, mut foreign) = (0, Vec::new());
        for (file, result) in files.iter_mut().zip(all) {
            match result.flatten() {
                Some(Found::Signed(by)) => foreign.push(ForeignSignature { path: file.path.clone(), by }),
                Some(Found::Made(overlay)) => {
                    count += 1;
                    file.size = overlay.size();
                    let base = std::mem::replace(&mut file.source, Source::Memory(Vec::new().into()));
                    file.source = Source::Changed(Box::new(base), overlay);
                }
                None => {}
            }
        }
        Ok((count, foreign))
    }

    fn program(&self, file: &PayloadFile) -> Result<Option<Found>, Failure> {
        let place = Path::new(file.path.as_str());
        Ok(match looked_at(file)? {
            None => None,
            Some(Looked::Signed(by)) => Some(Found::Signed(by)),
            Some(Looked::Unsigned(bytes, parts)) => Some(Found::Made(self.overlay(bytes, &parts, place)?.over(()))),
        })
    }

    /// A program as it is with its signature.
    fn overlay<R: ReadAt>(&self, bytes: R, parts: &SignedParts, place: &Path) -> Result<Overlay<R>, Failure> {
        let mut digester = self.hash().digester();
        let fed = parts.feed(&mut Cursor::new(&bytes), |part| digester.update(part));
        fed.map_err(|e| unreadable(place, e))?;
        let digest = digester.finish();
        let pages = self.how.page_hashes.then(|| super::form::pages(parts, &mut Cursor::new(&bytes))).transpose();
        let pages = pages.map_err(|e| unreadable(place, e))?;
        let imprint = Imprint { hash: self.hash(), digest: &digest, pages: pages.as_deref() };
        let made = made(Subject::Program, imprint, place, &self.who, &self.how)?;
        parts.signed(bytes, &[made]).map_err(|e| unreadable(place, e))
    }

    /// A program in memory with its signature.
    ///
    /// # Errors
    /// It is none, or the key or the clock fail.
    pub fn bytes(&self, program: &[u8], name: &str) -> Result<Vec<u8>, Failure> {
        let place = Path::new(name);
        let bytes = program.to_vec();
        let parts = SignedParts::find(&mut Cursor::new(&bytes)).map_err(|e| unreadable(place, e))?;
        let overlay = self.overlay(bytes, &parts, place)?;
        let mut signed = vec![0; overlay.size() as usize];
        overlay.read_exact_at(&mut signed, 0).map_err(|e| Failure::io("can't read", place, e))?;
        Ok(signed)
    }

    /// With which key, and how.
    pub fn key(&self) -> (&Identity, &Signed) {
        (&self.who, &self.how)
    }

    fn hash(&self) -> Hash {
        self.how.hash.unwrap_or_else(|| self.who.signer.public_key().usual_hash())
    }

    /// Signs a package that was just written, in place.
    ///
    /// # Errors
    /// The key, the clock or the medium fail; or the signature does not hold.
    pub fn package(&self, path: &Path, name: &str, file: &mut File) -> Result<(), Failure> {
        let mut form = super::form::Form::open(path).map_err(|e| unreadable(path, e))?;
        let (digest, directory) = form.digest_to_be(self.hash()).map_err(|e| unreadable(path, e))?;
        let pages = if self.how.page_hashes { form.pages().map_err(|e| unreadable(path, e))? } else { None };
        let imprint = Imprint { hash: self.hash(), digest: &digest, pages: pages.as_deref() };
        let made = made(form.subject(), imprint, Path::new(name), &self.who, &self.how)?;
        form.put_in_place(file, &made, &directory).map_err(|e| super::file::unwritable(path, e))
    }

    /// A signature that lies beside a file, which will be called `name`.
    ///
    /// # Errors
    /// The key, the clock or the medium fail.
    pub fn beside(&self, path: &Path, name: &str) -> Result<Vec<u8>, Failure> {
        super::beside::made(path, Path::new(name), &self.who, &self.how).map(|(signature, _)| signature)
    }

    /// What the signature of a finished package says. Whom to trust is not asked.
    ///
    /// # Errors
    /// It does not hold.
    pub fn holds(&self, path: &Path) -> Result<SignatureFacts, Failure> {
        super::file::holds(path, &self.who)?.signatures.into_iter().next_back().ok_or_else(|| {
            let what = format!("{} has no signature", path.display());
            Failure::new(Kind::Machine, Problem::error(Code::Signature, what).on(path))
        })
    }
}

/// Whether packages of a format get a signature; of archives only what is in them does.
pub fn is_signed(format: TargetName) -> bool {
    match format {
        TargetName::Msi | TargetName::Msix | TargetName::Nsis | TargetName::Portable | TargetName::Dmg => true,
        TargetName::Appimage | TargetName::Zip | TargetName::Tar => false,
    }
}

/// What will be signed with a product's key.
#[derive(Debug, Clone, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct PlannedSigning {
    /// The file of the key; none where code of macOS is signed ad hoc.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub key: Option<std::path::PathBuf>,
    /// The authorities that are asked for timestamps.
    pub timestamps: Vec<String>,
    /// The programs and libraries of the product that get a signature. Packages get one as well.
    pub programs: Vec<RelPath>,
    /// Those that others have signed; they stay as they are.
    pub foreign_signatures: Vec<ForeignSignature>,
    /// What programs of macOS may do beyond what all may.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub entitlements: Vec<PlannedEntitlement>,
}

/// Something that programs may do, by the manifest or because they could not run without it.
#[derive(Debug, Clone, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct PlannedEntitlement {
    /// Its key.
    pub name: String,
    /// Why it is there, if the manifest doesn't name it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
}

/// Looks through the files of a product for what will be signed.
///
/// # Errors
/// A file can't be read.
pub fn planned(settings: &Signing, files: &[PayloadFile]) -> Result<PlannedSigning, Failure> {
    let (mut programs, mut foreign_signatures) = (Vec::new(), Vec::new());
    for file in files {
        match looked_at(file)? {
            None => {}
            Some(Looked::Unsigned(..)) => programs.push(file.path.clone()),
            Some(Looked::Signed(by)) => foreign_signatures.push(ForeignSignature { path: file.path.clone(), by }),
        }
    }
    let (key, timestamps) = (Some(settings.key.clone()), settings.timestamps.clone());
    Ok(PlannedSigning { key, timestamps, programs, foreign_signatures, entitlements: Vec::new() })
}

/// A program of the payload.
enum Looked {
    /// By whom it is signed.
    Signed(String),
    Unsigned(Box<dyn ReadAt>, SignedParts),
}

/// What a file is, if it is a program that can be signed.
fn looked_at(file: &PayloadFile) -> Result<Option<Looked>, Failure> {
    let trouble = |e: std::io::Error| Failure::io("can't read", Path::new(file.path.as_str()), e);
    let bytes = file.source.open().map_err(trouble)?;
    let mut begin = [0; 2];
    if file.size < 2 || bytes.read_exact_at(&mut begin, 0).is_err() || &begin != b"MZ" {
        return Ok(None);
    }
    // A program for another system than Windows can begin so, too: such a one has no place for a signature.
    let Ok(parts) = SignedParts::find(&mut Cursor::new(&bytes)) else { return Ok(None) };
    if !parts.is_signed() {
        return Ok(Some(Looked::Unsigned(bytes, parts)));
    }
    let there = parts.signatures(&mut Cursor::new(&bytes)).ok().and_then(|all| all.into_iter().next());
    let report = there.and_then(|bytes| authenticode::check(&bytes, Subject::Program, &[], 0).ok());
    Ok(Some(Looked::Signed(report.map_or("somebody".into(), |report| shown(&report.signer.name())))))
}

enum Found {
    /// By whom it is signed already.
    Signed(String),
    Made(Overlay<()>),
}
