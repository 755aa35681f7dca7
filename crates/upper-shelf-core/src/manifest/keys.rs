//! The tables of the manifest that say which keys sign.

use crate::settings::{Digest, ExistingSignatures};
use schemars::JsonSchema;
use serde::Deserialize;

/// The keys that sign. Secrets never stand in the manifest.
#[derive(Debug, Clone, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Signing {
    /// For Windows: the product's programs and libraries that nobody has signed, setup programs, portable programs and
    /// installer packages.
    pub windows: Option<SigningWindows>,
    /// For macOS: programs, libraries, bundles and disk images.
    pub macos: Option<SigningMacos>,
    /// For Linux: a list of all packages of a build, `SHA256SUMS`, whose signature lies beside it, `SHA256SUMS.p7s`.
    pub linux: Option<SigningLinux>,
    /// With OpenPGP: AppImages, and the list of all packages of a build, `SHA256SUMS`, whose signature lies beside it,
    /// `SHA256SUMS.asc`.
    pub openpgp: Option<SigningOpenPgp>,
}

impl Signing {
    /// The tables that name two places for one secret.
    pub fn with_two_secrets(&self) -> impl Iterator<Item = &'static str> {
        let windows = self.windows.as_ref().map(|t| ("windows", &t.secret_variable, &t.secret_keyring));
        let macos = self.macos.as_ref().map(|t| ("macos", &t.secret_variable, &t.secret_keyring));
        let linux = self.linux.as_ref().map(|t| ("linux", &t.secret_variable, &t.secret_keyring));
        let openpgp = self.openpgp.as_ref().map(|t| ("openpgp", &t.secret_variable, &t.secret_keyring));
        let all = [windows, macos, linux, openpgp].into_iter().flatten();
        all.filter(|(_, variable, keyring)| variable.is_some() && keyring.is_some()).map(|(table, ..)| table)
    }
}

/// The key that signs for Windows.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct SigningWindows {
    /// The key: a PKCS #12 file or a private key in the PEM form, relative to the manifest; or a key in a token, as
    /// `pkcs11:token=LABEL;object=LABEL?module-path=LIBRARY` (RFC 7512, without a secret); or one that only a service uses, as
    /// `program:PATH`, a program that gets digests and gives signatures.
    pub key: String,
    /// The file with the key's certificate and those above it; default: the key's own file.
    pub certificate: Option<String>,
    /// The environment variable that holds the key's secret; default: the key has none.
    pub secret_variable: Option<String>,
    /// The entry of the system's keyring that holds the key's secret, as `SERVICE/ACCOUNT`; default: the key has none.
    pub secret_keyring: Option<String>,
    /// Addresses of authorities for timestamps (RFC 3161), asked in this order; default: no timestamp.
    #[serde(default)]
    pub timestamps: Vec<String>,
    /// A file with the certificates of the authorities whose timestamps are accepted; default: any.
    pub timestamp_roots: Option<String>,
    /// The digest; default: the one that goes with the key.
    pub digest: Option<Digest>,
    /// Whether the digest of each page of a program is signed, too, as some managed systems demand; default `false`.
    #[serde(default)]
    pub page_hashes: bool,
}

/// How code for macOS is signed.
#[derive(Debug, Clone, Default, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct SigningMacos {
    /// The key, as in `[signing.windows]`; default: none. Programs are signed ad hoc then: they start, and nobody vouches for
    /// them.
    pub key: Option<String>,
    /// The file with the key's certificate and those above it; default: the key's own file.
    pub certificate: Option<String>,
    /// The environment variable that holds the key's secret; default: the key has none.
    pub secret_variable: Option<String>,
    /// The entry of the system's keyring that holds the key's secret, as `SERVICE/ACCOUNT`; default: the key has none.
    pub secret_keyring: Option<String>,
    /// Addresses of authorities for timestamps (RFC 3161), asked in this order; default: no timestamp.
    #[serde(default)]
    pub timestamps: Vec<String>,
    /// A file with the certificates of the authorities whose timestamps are accepted; default: any.
    pub timestamp_roots: Option<String>,
    /// The team that the certificate has to be of, ten letters and digits; default: any.
    pub team: Option<String>,
    /// A property list of entitlements: what the programs may do. What bundled interpreters need is added.
    pub entitlements: Option<String>,
    /// Whether the hardened runtime guards the programs, as the notary demands; default `true` with a key. Without a key it
    /// can't be had.
    pub hardened_runtime: Option<bool>,
    /// What happens to programs and bundles that others have signed with a certificate: `keep` (default) or `replace`.
    pub existing: Option<ExistingSignatures>,
}

/// The key that signs with OpenPGP.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct SigningOpenPgp {
    /// The file of the private key, relative to the manifest.
    pub key: String,
    /// The environment variable that holds the key's secret; default: the key has none.
    pub secret_variable: Option<String>,
    /// The entry of the system's keyring that holds the key's secret, as `SERVICE/ACCOUNT`; default: the key has none.
    pub secret_keyring: Option<String>,
}

/// The key that signs for Linux.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct SigningLinux {
    /// The key, as in `[signing.windows]`.
    pub key: String,
    /// The file with the key's certificate and those above it; default: the key's own file.
    pub certificate: Option<String>,
    /// The environment variable that holds the key's secret; default: the key has none.
    pub secret_variable: Option<String>,
    /// The entry of the system's keyring that holds the key's secret, as `SERVICE/ACCOUNT`; default: the key has none.
    pub secret_keyring: Option<String>,
    /// Addresses of authorities for timestamps (RFC 3161), asked in this order; default: no timestamp.
    #[serde(default)]
    pub timestamps: Vec<String>,
    /// A file with the certificates of the authorities whose timestamps are accepted; default: any.
    pub timestamp_roots: Option<String>,
    /// The digest; default: the one that goes with the key.
    pub digest: Option<Digest>,
}
