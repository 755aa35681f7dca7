//! Signatures by OpenPGP: in the two sections of an AppImage that are kept for them, or beside a file.
//!
//! What an AppImage's signature is of: the SHA-256 of the file with both sections filled with zeros, as 64 hexadecimal digits
//! (the AppImage specification names the sections; the form is that of published signed ones). The public key beside the
//! signature is for readers that want one; whoever checks goes by keys that are known already.

use super::file::{Existing, Prepared, already_signed};
use super::{Hash, OpenPgpFacts, Secret, SignatureFacts, Verdict, hexadecimal, shown, time};
use crate::litter::{Litter, PARTIAL};
use crate::problem::{Code, Failure, Kind, Problem};
use crate::settings::OpenPgpSigning;
use object::{Object, ObjectSection, ReadCache};
use open_pgp::{PublicKeys, SecretKey};
use std::fs::File;
use std::io::{Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};

/// How the name of a signature ends that lies beside a file.
const ENDING: &str = "asc";
/// The longest signature, and the longest section, that are read, bytes.
const LONGEST: u64 = 1 << 16;

fn failure(code: Code, what: String, path: &Path, e: &open_pgp::Error) -> Failure {
    let code = if matches!(e, open_pgp::Error::Secret(_)) { Code::Secret } else { code };
    Failure::new(Kind::Problems, Problem::error(code, what).on(path).why(e.to_string()))
}

/// Where the signature beside a file lies.
pub fn openpgp_signature_of(path: &Path) -> PathBuf {
    super::beside::with_ending(path, ENDING)
}

/// Whether a file holds a private key of OpenPGP.
pub fn is_openpgp_key(path: &Path) -> bool {
    let mut begin = Vec::new();
    let read = File::open(path).and_then(|file| file.take(4096).read_to_end(&mut begin));
    read.is_ok() && String::from_utf8_lossy(&begin).contains(open_pgp::PRIVATE_KEY)
}

/// A key that signs.
pub struct OpenPgp(SecretKey);

impl OpenPgp {
    /// Reads a key. The secret is asked for when it is protected by one, and only then.
    ///
    /// # Errors
    /// The file can't be read or holds no key that signs, or the secret is missing or wrong.
    pub fn open(path: &Path, secret: &dyn Fn() -> Result<Option<Secret>, Failure>) -> Result<Self, Failure> {
        let bytes = zeroize::Zeroizing::new(crate::input::read(path).map_err(|e| Failure::io("can't read", path, e))?);
        let unusable = |e| failure(Code::Key, format!("the key {} can't be used", path.display()), path, &e);
        let mut key = SecretKey::read(&bytes).map_err(unusable)?;
        if key.is_protected() {
            let missing = || unusable(open_pgp::Error::Secret("it is protected by a secret".into()));
            let secret = secret()?.ok_or_else(missing)?;
            key.unlock(secret.expose()).map_err(unusable)?;
        }
        Ok(Self(key))
    }

    /// The key that a manifest names.
    ///
    /// # Errors
    /// As [`OpenPgp::open`].
    pub fn of_product(settings: &OpenPgpSigning) -> Result<Self, Failure> {
        Self::open(&settings.key, &|| {
            let secret = settings.secret.as_ref().map(|place| place.read()).transpose();
            secret.map_err(|problem| Failure::new(Kind::Problems, *problem))
        })
    }

    /// Whose it is.
    pub fn user(&self) -> String {
        shown(&self.0.facts().user)
    }

    /// What should be known of it before anything is signed with it.
    pub fn warnings(&self, path: &Path, now: u64) -> Vec<Problem> {
        let wrong = self.0.problems(now).into_iter();
        let mut all: Vec<Problem> =
            wrong.map(|why| Problem::warning(Code::Key, format!("{}: {why}", path.display())).on(path)).collect();
        all.extend(super::open_to_others(path));
        all
    }

    fn signature(&self, data: &mut dyn Read, place: &Path, now: u64) -> Result<String, Failure> {
        let made = self.0.sign(data, now);
        made.map_err(|e| failure(Code::Key, format!("{} can't be signed", place.display()), place, &e))
    }

    /// The signature of a file, for beside it.
    ///
    /// # Errors
    /// The file can't be read, or the key refuses.
    pub fn beside(&self, path: &Path, now: u64) -> Result<String, Failure> {
        let mut file = File::open(path).map_err(|e| Failure::io("can't read", path, e))?;
        self.signature(&mut file, path, now)
    }

    /// Signs an AppImage in place; with what was signed before, if that is the same. Says nothing of any other file.
    ///
    /// # Errors
    /// The file can't be read or written, its sections are too small, or the key refuses.
    pub fn appimage(&self, path: &Path, file: &mut File, now: u64) -> Result<Option<SignatureFacts>, Failure> {
        let trouble = |e: std::io::Error| Failure::io("can't write", path, e);
        let Some(sections) = Sections::find(file).map_err(trouble)? else { return Ok(None) };
        let digest = sections.digest(file).map_err(trouble)?;
        let name = format!("{digest}-{}", self.0.facts().fingerprint);
        let kept = super::cache::text(&name).filter(|text| self.is_of(text, &digest));
        let signature = match kept {
            Some(text) => text,
            None => {
                let made = self.signature(&mut digest.as_bytes(), path, now)?;
                super::cache::keep_text(&name, &made);
                made
            }
        };
        let what = || format!("{} can't be signed", path.display());
        let public = self.0.public().map_err(|e| failure(Code::Key, what(), path, &e))?;
        for ((at, room), text) in [(sections.signature, &signature), (sections.key, &public)] {
            if text.len() as u64 > room {
                let problem = Problem::error(Code::NotSignable, what()).on(path);
                let why = format!("its head has {room} bytes of room where {} are needed", text.len());
                let instead = "a smaller key: Ed25519, or one with fewer names and signatures of others";
                return Err(Failure::new(Kind::Problems, problem.why(why).instead(instead)));
            }
            let mut whole = text.clone().into_bytes();
            whole.resize(room as usize, 0);
            file.seek(SeekFrom::Start(at)).and_then(|_| file.write_all(&whole)).map_err(trouble)?;
        }
        let known = self.known().map_err(|e| failure(Code::Key, what(), path, &e))?;
        let (facts, problems) = sections.verdict(file, Some(&known), now).map_err(trouble)?;
        match facts {
            Some(facts) if problems.is_empty() => Ok(Some(facts)),
            _ => {
                let problem =
                    Problem::error(Code::Signature, format!("the signature of {} doesn't hold", path.display()));
                Err(Failure::new(Kind::Problems, problem.on(path).why(problems.join("; "))))
            }
        }
    }

    fn known(&self) -> open_pgp::Result<PublicKeys> {
        self.0.public().and_then(|text| PublicKeys::read(text.as_bytes()))
    }

    fn is_of(&self, signature: &str, digest: &str) -> bool {
        self.known().and_then(|keys| keys.verify(signature.as_bytes(), &mut digest.as_bytes(), super::now())).is_ok()
    }
}

/// What is wrong with the key that a manifest names, as far as that can be seen before anything is built.
pub fn check_openpgp(settings: &OpenPgpSigning, now: u64) -> Vec<Problem> {
    let problems = match OpenPgp::of_product(settings) {
        Ok(key) => key.warnings(&settings.key, now),
        Err(failure) => failure.problems,
    };
    let about = |mut problem: Problem| {
        // A plan needs no secret; a build says so itself.
        if matches!(problem.code, Code::Secret | Code::UnsetVariable) {
            problem.severity = crate::problem::Severity::Warning;
            problem.instead = Some(match &settings.secret {
                Some(place) => place.remedy(),
                None => "secret-variable = \"NAME\"".into(),
            });
        }
        problem.about_setting("signing.openpgp.key")
    };
    problems.into_iter().map(about).collect()
}

/// Signs a file: an AppImage in itself, any other file beside it.
///
/// # Errors
/// It is signed already, can't be read or written, or the key refuses.
pub fn sign_openpgp(path: &Path, key: &OpenPgp, existing: Existing, now: u64) -> Result<Prepared, Failure> {
    crate::input::is_file(path).map_err(|e| Failure::io("can't read", path, e))?;
    let trouble = |e: std::io::Error| Failure::io("can't read", path, e);
    let mut file = File::open(path).map_err(trouble)?;
    let sections = Sections::find(&file).map_err(trouble)?;
    let own = if sections.is_some() { path.to_owned() } else { openpgp_signature_of(path) };
    let is_signed = match &sections {
        Some(sections) => sections.text(&mut file, sections.signature).map_err(trouble)?.is_some(),
        None => own.symlink_metadata().is_ok(),
    };
    if is_signed && existing != Existing::Replace {
        if sections.is_some() {
            return Err(already_signed(&own, "somebody", false));
        }
        let problem = Problem::error(Code::AlreadySigned, format!("{} is there already", own.display())).on(&own);
        return Err(Failure::new(Kind::Problems, problem.instead("`--existing replace` for another in its place")));
    }
    let name = own.file_name().unwrap_or_default().to_string_lossy();
    let beside = own.with_file_name(format!(".{name}{PARTIAL}"));
    let litter = Litter::file(&beside);
    let unwritten = |e: std::io::Error| Failure::io("can't write", &beside, e);
    let mut verdict = super::file::unchecked(path);
    let mut out =
        File::options().read(true).write(true).create(true).truncate(true).open(&beside).map_err(unwritten)?;
    if sections.is_some() {
        file.seek(SeekFrom::Start(0)).and_then(|_| std::io::copy(&mut file, &mut out)).map_err(unwritten)?;
        verdict.signatures.extend(key.appimage(&beside, &mut out, now)?);
        let modes = file.metadata().map_err(trouble)?.permissions();
        out.set_permissions(modes).map_err(unwritten)?;
    } else {
        let signature = key.beside(path, now)?;
        out.write_all(signature.as_bytes()).map_err(unwritten)?;
        let what = format!("{} can't be signed", path.display());
        let known = key.known().map_err(|e| failure(Code::Key, what, path, &e))?;
        let mut data = File::open(path).map_err(trouble)?;
        let (facts, problems) = checked(&known, signature.as_bytes(), &mut data, now);
        verdict.signatures.extend(facts);
        verdict.problems = problems;
    }
    out.sync_all().map_err(unwritten)?;
    verdict.judge();
    Ok(Prepared::new(vec![(own, beside, litter)], verdict))
}

/// Reads keys that are known.
///
/// # Errors
/// They can't be read, or are none.
pub fn openpgp_keys(files: &[PathBuf]) -> Result<Option<PublicKeys>, Failure> {
    let mut all: Option<PublicKeys> = None;
    for path in files {
        let bytes = crate::input::read(path).map_err(|e| Failure::io("can't read", path, e))?;
        let what = || format!("{} holds no public keys of OpenPGP", path.display());
        let keys = PublicKeys::read(&bytes).map_err(|e| failure(Code::Key, what(), path, &e))?;
        match &mut all {
            Some(all) => all.extend(keys),
            None => all = Some(keys),
        }
    }
    Ok(all)
}

/// What a signature says, and what is wrong with it.
fn checked(
    keys: &PublicKeys,
    signature: &[u8],
    data: &mut dyn Read,
    now: u64,
) -> (Option<SignatureFacts>, Vec<String>) {
    match keys.verify(signature, data, now) {
        Ok(report) => {
            let key = &report.key;
            let facts = OpenPgpFacts {
                user: shown(&key.user),
                fingerprint: key.fingerprint.clone(),
                key: key.algorithm.clone(),
                time: time(report.time),
                until: key.until.map(time),
            };
            let problems = report.problems.iter().map(|problem| shown(problem)).collect();
            (
                Some(SignatureFacts { openpgp: Some(facts), problems, ..SignatureFacts::unnamed(report.digest) }),
                Vec::new(),
            )
        }
        Err(e) => (None, vec![shown(&e.to_string())]),
    }
}

/// Looks at a signature by OpenPGP, in an AppImage or beside a file; none where there is none.
pub(super) fn verify(path: &Path, keys: Option<&PublicKeys>, now: u64) -> Result<Option<Verdict>, Failure> {
    let trouble = |e: std::io::Error| Failure::io("can't read", path, e);
    let mut verdict = super::file::unchecked(path);
    verdict.unchecked = Vec::new();
    // A folder, or what else is no file, has none.
    let Ok(mut file) = crate::input::is_file(path).and_then(|_| File::open(path)) else { return Ok(None) };
    let unknown = || "it is signed with OpenPGP: name the file of known keys with --openpgp-keys".to_owned();
    let beside = openpgp_signature_of(path);
    if let Some(sections) = Sections::find(&file).map_err(trouble)? {
        if sections.text(&mut file, sections.signature).map_err(trouble)?.is_none() {
            return Ok(None);
        }
        let (facts, problems) = sections.verdict(&mut file, keys, now).map_err(trouble)?;
        verdict.signatures.extend(facts);
        verdict.problems = problems;
        if keys.is_none() {
            verdict.problems = vec![unknown()];
        }
    } else if beside.is_file() {
        let bytes = crate::input::at_most(&beside, LONGEST).map_err(|e| Failure::io("can't read", &beside, e))?;
        match keys {
            Some(keys) => {
                file.seek(SeekFrom::Start(0)).map_err(trouble)?;
                let (facts, problems) = checked(keys, &bytes, &mut file, now);
                verdict.signatures.extend(facts);
                verdict.problems = problems;
            }
            None => verdict.problems = vec![unknown()],
        }
        super::beside::check_list(path, &mut verdict)?;
    } else {
        return Ok(None);
    }
    verdict.judge();
    Ok(Some(verdict))
}

/// What the signature in an AppImage says by the key that lies beside it there: whom to trust is not asked. None where there
/// is none, or where no key is.
pub(super) fn signer_inside(path: &Path) -> Result<Option<SignatureFacts>, Failure> {
    let trouble = |e: std::io::Error| Failure::io("can't read", path, e);
    let Ok(mut file) = crate::input::is_file(path).and_then(|_| File::open(path)) else { return Ok(None) };
    let Some(sections) = Sections::find(&file).map_err(trouble)? else { return Ok(None) };
    let Some(key) = sections.text(&mut file, sections.key).map_err(trouble)? else { return Ok(None) };
    let Ok(key) = PublicKeys::read(&key) else { return Ok(None) };
    let (facts, problems) = sections.verdict(&mut file, Some(&key), super::now()).map_err(trouble)?;
    Ok(facts.map(|facts| SignatureFacts { problems: [facts.problems, problems].concat(), ..facts }))
}

/// Where an AppImage has room for a signature and its key: places and lengths.
#[derive(Debug, Clone, Copy)]
struct Sections {
    signature: (u64, u64),
    key: (u64, u64),
}

impl Sections {
    /// Finds them; none in what is no AppImage.
    fn find(mut file: &File) -> std::io::Result<Option<Self>> {
        let mut begin = [0; 11];
        file.seek(SeekFrom::Start(0))?;
        if file.read_exact(&mut begin).is_err() || &begin[..4] != b"\x7fELF" || begin[8..] != *b"AI\x02" {
            return Ok(None);
        }
        let length = file.metadata()?.len();
        let cache = ReadCache::new(file);
        let Ok(elf) = object::File::parse(&cache) else { return Ok(None) };
        let place = |name: &str| {
            let (at, size) = elf.section_by_name(name)?.file_range()?;
            let fits = size > 0 && size <= LONGEST && at.checked_add(size).is_some_and(|end| end <= length);
            fits.then_some((at, size))
        };
        let (Some(signature), Some(key)) = (place(".sha256_sig"), place(".sig_key")) else { return Ok(None) };
        let apart = signature.0 + signature.1 <= key.0 || key.0 + key.1 <= signature.0;
        Ok(apart.then_some(Self { signature, key }))
    }

    /// The text in a section; none in an empty one.
    fn text(&self, file: &mut File, (at, room): (u64, u64)) -> std::io::Result<Option<Vec<u8>>> {
        let mut bytes = vec![0; room as usize];
        file.seek(SeekFrom::Start(at))?;
        file.read_exact(&mut bytes)?;
        let end = bytes.iter().rposition(|byte| *byte != 0).map_or(0, |last| last + 1);
        bytes.truncate(end);
        Ok((end > 0).then_some(bytes))
    }

    /// The text that is signed.
    fn digest(&self, file: &mut File) -> std::io::Result<String> {
        let mut digester = Hash::Sha256.digester();
        let (mut at, mut buffer) = (0, vec![0; 1 << 18]);
        file.seek(SeekFrom::Start(0))?;
        loop {
            let n = file.read(&mut buffer)?;
            if n == 0 {
                return Ok(hexadecimal(&digester.finish()));
            }
            for (start, length) in [self.signature, self.key] {
                let from = start.clamp(at, at + n as u64) - at;
                let to = (start + length).clamp(at, at + n as u64) - at;
                buffer[from as usize..to as usize].fill(0);
            }
            digester.update(&buffer[..n]);
            at += n as u64;
        }
    }

    /// What the signature says, and what is wrong with it.
    fn verdict(
        &self,
        file: &mut File,
        keys: Option<&PublicKeys>,
        now: u64,
    ) -> std::io::Result<(Option<SignatureFacts>, Vec<String>)> {
        let digest = self.digest(file)?;
        let (Some(keys), Some(signature)) = (keys, self.text(file, self.signature)?) else {
            return Ok((None, Vec::new()));
        };
        Ok(checked(keys, &signature, &mut digest.as_bytes(), now))
    }
}
