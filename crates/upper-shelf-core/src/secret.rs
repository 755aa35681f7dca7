//! Passwords and keys: taken from the environment, handed to what needs them, and overwritten when they are not needed
//! any more. They never come out of a manifest's texts, which are public.

use crate::problem::{Code, Problem};

pub use signatures::Secret;

/// The value of an environment variable.
///
/// # Errors
/// It is not set, or is not Unicode. The sentence names the variable, never what is in it.
pub fn from_environment(name: &str) -> Result<Secret, Box<Problem>> {
    std::env::var(name).map(Secret::new).map_err(|e| {
        let why = match e {
            std::env::VarError::NotPresent => "it is not set",
            std::env::VarError::NotUnicode(_) => "its value is not Unicode text",
        };
        let problem = Problem::error(
            Code::UnsetVariable,
            format!("the environment variable {name}, which holds a secret, can't be used"),
        );
        let instead = format!("set {name} for this command only, from your build server's secret store");
        Box::new(problem.why(why).instead(instead))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_missing_secret_is_named_by_its_variable() {
        let problem = from_environment("UPPER_SHELF_NO_SUCH_SECRET").err().expect("not set");
        assert!(problem.what.contains("UPPER_SHELF_NO_SUCH_SECRET"));
        assert_eq!(Secret::new("hive".into()).expose(), "hive");
    }
}
