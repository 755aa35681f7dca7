//! The files of a product for macOS, signed before they are packed.

use crate::footprint::{Node, RelPath};
use crate::payload::Source;
use crate::problem::{Code, Failure, Kind, Problem};
use crate::settings::CodeSigning;
use crate::signing::Signer;
use crate::signing::macos::{Again, CodeSigner, Item, Outcome, Tree, entitlements};
use crate::targets::bundle::{self, Bundle, Piece};
use crate::targets::{Job, Sealed};
use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;

/// What is asked for.
pub struct Work<'w> {
    /// How code is signed.
    pub settings: &'w CodeSigning,
    /// With which key; none signs ad hoc.
    pub signer: Option<&'w Signer>,
    /// Whether the package makes an application bundle of the product, or holds a finished one.
    pub is_bundle: bool,
    /// Threads that hash and sign.
    pub threads: usize,
}

/// What came of it.
pub struct Done {
    /// What was signed, and what not.
    pub outcome: Outcome,
    /// What seals the bundle that the package makes.
    pub sealed: Option<Sealed>,
    /// Files that are others now: their index, size and bytes.
    pub changed: Vec<(usize, u64, Source)>,
    /// Files that are new: seals of bundles inside of the product.
    pub added: Vec<(RelPath, Arc<[u8]>)>,
}

/// Signs the files of a product, and makes the seals of the bundles among them, and of the one that a package makes of them.
///
/// # Errors
/// A file can't be read, or the key or the clock fail.
pub fn seal_payload(work: &Work, job: &Job) -> Result<Done, Failure> {
    let prefix = job.footprint.product.id.clone().unwrap_or_default();
    let Work { settings, signer, is_bundle, threads } = *work;
    let (entitlements, _) = entitlements(settings, job.files)?;
    let (key, again) = (signer.map(Signer::key), if settings.replace { Again::All } else { Again::Code });
    let of_code = CodeSigner { key, entitlements, runtime: settings.runtime, again, prefix, identifier: None };
    let bundle = is_bundle.then(|| Bundle::of(job));
    let (mut tree, own) = tree_of(job, bundle.as_ref());
    let outcome = of_code.seal(&mut tree, threads)?;
    let top = bundle.as_ref().map_or_else(String::new, |bundle| format!("{}/", bundle.top));
    let is_made = bundle.as_ref().is_some_and(|bundle| !bundle.finished);
    let mut done = Done { outcome, sealed: is_made.then(Sealed::default), changed: Vec::new(), added: Vec::new() };
    for path in &done.outcome.changed {
        let Some(Item::File(source)) = tree.0.remove(path) else { continue };
        let trouble = |e| Failure::io("can't read", Path::new(path), e);
        let size = source.open().and_then(|file| file.length()).map_err(trouble)?;
        if let Some(n) = own.get(path) {
            done.changed.push((*n, size, source));
            continue;
        }
        let mut bytes = vec![0; size as usize];
        source.open().and_then(|file| file.read_exact_at(&mut bytes, 0)).map_err(trouble)?;
        let place = path.strip_prefix(&top).unwrap_or(path);
        match (&mut done.sealed, &bundle) {
            (Some(sealed), _) if place == bundle::SEAL => sealed.seal = bytes,
            // A seal of a bundle inside of the product belongs to the product.
            (_, Some(bundle)) if path.ends_with(bundle::SEAL_NAME) => {
                done.added.push((added(&bundle.path_of(place))?, bytes.into()));
            }
            (_, None) => done.added.push((added(path)?, bytes.into())),
            (Some(sealed), Some(_)) => sealed.launcher = Some(bytes),
            (None, Some(_)) => {}
        }
    }
    Ok(done)
}

fn added(path: &str) -> Result<RelPath, Failure> {
    RelPath::new(path).map_err(|why| {
        let problem = Problem::error(Code::Internal, format!("a seal has no place at {path:?}"));
        Failure::new(Kind::Problems, problem.why(why.to_string()))
    })
}

/// Everything at its place, and which file of the payload stands where.
fn tree_of(job: &Job, bundle: Option<&Bundle>) -> (Tree, BTreeMap<String, usize>) {
    let mut tree = Tree::default();
    let mut own = BTreeMap::new();
    if let Some(bundle) = bundle {
        tree.0.insert(bundle.top.clone(), Item::Folder);
        for (path, piece) in &bundle.pieces {
            let item = match piece {
                Piece::Folder(_) => Item::Folder,
                Piece::Link(target) => Item::Link(target.clone()),
                Piece::File(_, bytes) => Item::File(Source::Memory(bytes.clone().into())),
            };
            tree.0.insert(format!("{}/{path}", bundle.top), item);
        }
    }
    for node in job.footprint.tree.iter().filter(|_| bundle.is_none()) {
        let item = match node {
            Node::Folder { .. } => Item::Folder,
            Node::Link { target, .. } => Item::Link(target.clone()),
            Node::File { .. } | Node::HardLink { .. } => continue,
        };
        tree.0.insert(node.path().to_string(), item);
    }
    for (n, file) in job.files.iter().enumerate() {
        let place = match bundle {
            Some(bundle) => format!("{}/{}", bundle.top, bundle.place(&file.path)),
            None => file.path.to_string(),
        };
        tree.0.insert(place.clone(), Item::File(file.source.clone()));
        own.insert(place, n);
    }
    (tree, own)
}
