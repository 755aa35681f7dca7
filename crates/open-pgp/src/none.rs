//! Stands in where OpenPGP is not built in.

use crate::{Error, Facts, Report, Result};
use std::io::Read;

fn missing<T>() -> Result<T> {
    Err(Error::other("this upper-shelf was built without OpenPGP (the feature `openpgp`)"))
}

/// A key that signs.
pub enum SecretKey {}

impl SecretKey {
    /// Reads one.
    ///
    /// # Errors
    /// Always.
    pub fn read(_: &[u8]) -> Result<Self> {
        missing()
    }

    /// Whether a secret protects it.
    pub fn is_protected(&self) -> bool {
        match *self {}
    }

    /// Takes its secret.
    ///
    /// # Errors
    /// None: there is no such key.
    pub fn unlock(&mut self, _: &str) -> Result<()> {
        match *self {}
    }

    /// What is known of it.
    pub fn facts(&self) -> &Facts {
        match *self {}
    }

    /// What is wrong with signing with it now.
    pub fn problems(&self, _: u64) -> Vec<String> {
        match *self {}
    }

    /// Its public half, as text.
    ///
    /// # Errors
    /// None: there is no such key.
    pub fn public(&self) -> Result<String> {
        match *self {}
    }

    /// A signature, as text.
    ///
    /// # Errors
    /// None: there is no such key.
    pub fn sign(&self, _: &mut dyn Read, _: u64) -> Result<String> {
        match *self {}
    }
}

/// Keys that are known.
pub enum PublicKeys {}

impl PublicKeys {
    /// Reads them.
    ///
    /// # Errors
    /// Always.
    pub fn read(_: &[u8]) -> Result<Self> {
        missing()
    }

    /// Adds others.
    pub fn extend(&mut self, _: Self) {
        match *self {}
    }

    /// Checks a signature.
    ///
    /// # Errors
    /// None: there are no such keys.
    pub fn verify(&self, _: &[u8], _: &mut dyn Read, _: u64) -> Result<Report> {
        match *self {}
    }
}
