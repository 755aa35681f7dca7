//! Keys that are not on this machine. What has to be signed is noted in a list, the build stops, and the same build goes on
//! when the list comes back with signatures; or the key is here, and signs at once.

use super::failure;
use super::file::Signed;
use crate::litter::{Litter, PARTIAL};
use crate::problem::{Code, Failure, Kind, Problem};
use crate::settings::Signing;
use signatures::digests::{self, Entry, List};
use signatures::key::Identity;
use signatures::message::Unsigned;
use signatures::timestamp;
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

/// The longest list that is read, bytes.
const LONGEST: u64 = 64 << 20;

/// A list of digests that are signed elsewhere, as a build uses it, or one part of a build: of several platforms each waits
/// for its own signatures only.
#[derive(Debug)]
pub struct Elsewhere {
    path: PathBuf,
    state: Arc<Mutex<State>>,
    /// Which of them this part has asked for; none, if it is the whole build.
    own: Option<Mutex<BTreeSet<usize>>>,
}

#[derive(Debug, Default)]
struct State {
    list: List,
    /// Which of them the whole build has asked for.
    asked: BTreeSet<usize>,
}

/// Reads a list, if it is there.
fn read(path: &Path) -> Result<Option<List>, Failure> {
    let trouble = |e: std::io::Error| Failure::io("can't read", path, e);
    match crate::input::is_file(path) {
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(None),
        other => other.map_err(trouble)?,
    };
    let no_list = |why: String| {
        let problem = Problem::error(Code::DigestList, format!("{} is no list of digests", path.display())).on(path);
        let instead = "the file that `upper-shelf build --digests` wrote; without it the build begins anew";
        Failure::new(Kind::Problems, problem.why(why).instead(instead))
    };
    if std::fs::metadata(path).map_err(trouble)?.len() > LONGEST {
        return Err(no_list(format!("it is longer than {} MiB", LONGEST >> 20)));
    }
    let bytes = crate::input::read(path).map_err(trouble)?;
    let text = String::from_utf8(bytes).map_err(|_| no_list("it isn't UTF-8".into()))?;
    List::read(&text).map(Some).map_err(|e| no_list(e.to_string()))
}

/// Writes a list; an older one stays until the new one is whole.
fn write(path: &Path, list: &List) -> Result<(), Failure> {
    let trouble = |e: std::io::Error| Failure::io("can't write", path, e);
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    let beside = path.with_file_name(format!(".{name}{PARTIAL}"));
    let litter = Litter::file(&beside);
    std::fs::write(&beside, list.write()).map_err(trouble)?;
    std::fs::rename(&beside, path).map_err(trouble)?;
    litter.keep();
    Ok(())
}

/// Signs what a list has for a key. Says how many digests were signed, and how many still wait, for other keys.
///
/// # Errors
/// There is no list, the key refuses, or the list can't be written.
pub fn sign_digests(path: &Path, who: &Identity) -> Result<(usize, usize), Failure> {
    let missing = || Failure::io("can't read", path, std::io::ErrorKind::NotFound.into());
    let mut list = read(path)?.ok_or_else(missing)?;
    let what = || format!("the digests in {} can't be signed", path.display());
    let count = list.sign(who).map_err(|e| failure(Code::Key, Kind::Problems, what(), path, &e))?;
    let left = list.missing();
    if count > 0 {
        write(path, &list)?;
    } else if left > 0 {
        let named = super::shown(&who.certificate().name());
        let problem = Problem::error(Code::Key, format!("no digest in {} is for this key", path.display())).on(path);
        let why = format!("{left} wait for the key of another certificate than “{named}”");
        return Err(Failure::new(
            Kind::Problems,
            problem.why(why).instead("the key whose certificate the build names"),
        ));
    }
    Ok((count, left))
}

/// Who signs with a key that is elsewhere: its certificate has to be here.
///
/// # Errors
/// No certificate is named, or it can't be used.
pub(super) fn identity(settings: &Signing) -> Result<Identity, Failure> {
    let table = format!("signing.{}", settings.system.name());
    let Some(path) = &settings.certificates else {
        let problem = Problem::error(Code::Certificate, format!("[{table}] names no certificate"));
        let problem = problem.about_setting(format!("{table}.key")).why("the key is elsewhere, and signatures name it");
        return Err(Failure::new(Kind::Problems, problem.instead("certificate = \"FILE\", which holds no secret")));
    };
    let mut chain = super::certificates(path)?;
    // The one of the key issues no others.
    chain.sort_by_key(|certificate| certificate.authority().is_some());
    digests::identity(chain).map_err(|e| {
        let what = format!("the certificate in {} can't be used", path.display());
        let mut failure = failure(Code::Certificate, Kind::Problems, what, path, &e);
        failure.problems =
            failure.problems.into_iter().map(|p| p.about_setting(format!("{table}.certificate"))).collect();
        failure
    })
}

impl Elsewhere {
    /// Takes up a list, or begins one.
    ///
    /// # Errors
    /// It can't be read, or is none.
    pub fn open(path: &Path) -> Result<Self, Failure> {
        let list = read(path)?.unwrap_or_default();
        let state = State { list, asked: BTreeSet::new() };
        Ok(Self { path: path.to_owned(), state: Arc::new(Mutex::new(state)), own: None })
    }

    /// The same list for one part of the build.
    pub fn part(&self) -> Self {
        Self { path: self.path.clone(), state: Arc::clone(&self.state), own: Some(Mutex::default()) }
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn awaited(&self, count: usize) -> Failure {
        let list = self.path.display();
        let what = match count {
            1 => format!("1 digest in {list} has to be signed"),
            _ => format!("{count} digests in {list} have to be signed"),
        };
        let problem = Problem::error(Code::Awaited, what).on(&self.path);
        let next = format!(
            "upper-shelf sign --digests {} --key KEY, where the key is; then the same build again",
            self.path.display()
        );
        Failure::new(Kind::Awaited, problem.instead(next))
    }

    /// The signature of a message, if it has come back.
    ///
    /// # Errors
    /// [`Kind::Awaited`] when it has not, [`Kind::Problems`] when it does not fit.
    fn signature(&self, unsigned: &Unsigned, place: &Path, who: &Identity) -> Result<Vec<u8>, Failure> {
        let hash = unsigned.hash();
        let name = place.to_string_lossy();
        let wanted = Entry::new(&name, who.certificate(), hash, &hash.of(unsigned.to_sign()));
        let mut state = self.state();
        let found = state.list.digests.iter().position(|entry| entry.is_same(&wanted));
        let n = found.unwrap_or(state.list.digests.len());
        let is_first = state.asked.insert(n);
        if let Some(own) = &self.own {
            own.lock().unwrap_or_else(PoisonError::into_inner).insert(n);
        }
        if found.is_none() {
            state.list.digests.push(wanted);
        } else if is_first || *name < *state.list.digests[n].file {
            // Of files with the same digest one gives its name, and always the same one, whichever comes first.
            state.list.digests[n].file = name.to_string();
        }
        let Some(signature) = state.list.digests[n].signature().ok().flatten() else { return Err(self.awaited(1)) };
        drop(state);
        unsigned.fits(&signature).map_err(|e| {
            let what = format!("the signature of {name} in {} doesn't fit", self.path.display());
            let problem = Problem::error(Code::DigestList, what).on(&self.path).why(e.to_string());
            Failure::new(Kind::Problems, problem.instead("remove its line \"signature\", and sign the digest again"))
        })?;
        Ok(signature)
    }

    /// The timestamp of a signature: the one in the list, or a new one, which goes there, so that it stays the same.
    fn stamp(&self, signature: &[u8], how: &Signed) -> Result<Option<Vec<u8>>, Failure> {
        let Some(clock) = &how.clock else { return Ok(None) };
        let of = |state: &State| {
            state.list.digests.iter().position(|entry| entry.signature().ok().flatten().as_deref() == Some(signature))
        };
        let state = self.state();
        let kept = of(&state).and_then(|n| state.list.digests[n].timestamp().ok().flatten());
        drop(state);
        if let Some(token) = kept.clone().filter(|token| timestamp::check(token, signature, &clock.roots).is_ok()) {
            return Ok(Some(token));
        }
        let token = clock.stamp(signature)?;
        let mut state = self.state();
        let Some(n) = of(&state) else { return Ok(Some(token)) };
        // Another thread may have one for the same bytes, which then is the one.
        if let (None, Ok(Some(first))) = (&kept, state.list.digests[n].timestamp()) {
            return Ok(Some(first));
        }
        state.list.digests[n].set_timestamp(&token);
        Ok(Some(token))
    }

    /// Stops a build, or the part of one, that can't go on without signatures.
    ///
    /// # Errors
    /// [`Kind::Awaited`] when one is missing that it has asked for.
    pub fn stop(&self) -> Result<(), Failure> {
        let state = self.state();
        let own = self.own.as_ref().map(|own| own.lock().unwrap_or_else(PoisonError::into_inner));
        let asked = own.as_deref().unwrap_or(&state.asked);
        let missing = asked.iter().filter(|n| state.list.digests[**n].signature.is_none()).count();
        drop((own, state));
        if missing == 0 { Ok(()) } else { Err(self.awaited(missing)) }
    }

    /// Writes the list. What nobody has signed, and this build has no use for, is no longer in it.
    ///
    /// # Errors
    /// The medium's.
    pub fn save(&self) -> Result<(), Failure> {
        let state = self.state();
        let all = state.list.digests.iter().enumerate();
        let kept = all.filter(|(n, entry)| entry.signature.is_some() || state.asked.contains(n));
        let mut digests: Vec<Entry> = kept.map(|(_, entry)| entry.clone()).collect();
        // Programs are signed side by side; the list has one order all the same.
        digests.sort_by(|a, b| {
            (a.signature.is_none(), &a.file, &a.digest).cmp(&(b.signature.is_none(), &b.file, &b.digest))
        });
        write(&self.path, &List { digests })
    }
}

/// Nothing yet, where a signature is awaited: what else can be asked for is asked for before the build stops.
pub(crate) fn later<T>(result: Result<T, Failure>) -> Result<Option<T>, Failure> {
    match result {
        Err(failure) if failure.kind == Kind::Awaited => Ok(None),
        result => result.map(Some),
    }
}

/// The signature of a message, and its timestamp if there is a clock.
pub(super) fn signed(
    unsigned: &Unsigned,
    place: &Path,
    who: &Identity,
    how: &Signed,
) -> Result<(Vec<u8>, Option<Vec<u8>>), Failure> {
    if let Some(elsewhere) = &how.elsewhere {
        let signature = elsewhere.signature(unsigned, place, who)?;
        let stamp = elsewhere.stamp(&signature, how)?;
        return Ok((signature, stamp));
    }
    let signature =
        who.signer.sign(unsigned.hash(), unsigned.to_sign()).map_err(|e| super::file::refused(place, &e))?;
    let stamp = how.clock.as_ref().map(|clock| clock.stamp(&signature)).transpose()?;
    Ok((signature, stamp))
}
