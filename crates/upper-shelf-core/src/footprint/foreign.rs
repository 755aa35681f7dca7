//! What packages of other makers hold or do that has no place of its own in a footprint. It is shown and compared; nothing
//! is built from it.

use super::{Item, Kind};
use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use std::fmt;

/// One such thing.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case", tag = "kind")]
pub enum Foreign {
    /// It is in the package, and not in the tree.
    LeftOut {
        /// What it is, with its name.
        what: String,
    },
    /// Rows of a table that say nothing that a footprint has.
    Table {
        /// The table's name.
        name: String,
        /// How many rows.
        rows: usize,
    },
    /// Something that the package has done while it is installed.
    CustomAction {
        /// Its name.
        name: String,
        /// What, when, and as whom.
        does: String,
    },
    /// What must hold before anything is installed.
    Condition {
        /// In the package's own language.
        text: String,
    },
    /// A part that is installed under a condition only.
    ConditionalComponent {
        /// The part's name.
        component: String,
        /// In the package's own language.
        condition: String,
    },
    /// Services that must run before one of the package's.
    ServiceNeeds {
        /// The package's own service.
        service: String,
        /// The others, with blanks between.
        needs: String,
    },
    /// Something that a program says of itself.
    Said {
        /// What it is about.
        about: String,
        /// What it says.
        text: String,
    },
}

impl Item for Foreign {
    const KIND: Kind = Kind::Foreign;
    fn name(&self) -> Cow<'_, str> {
        match self {
            Self::LeftOut { what } => what.as_str().into(),
            Self::Table { name, .. } => format!("table {name}").into(),
            Self::CustomAction { name, .. } => format!("custom action {name}").into(),
            Self::Condition { text } => format!("condition {text}").into(),
            Self::ConditionalComponent { component, .. } => format!("component {component}").into(),
            Self::ServiceNeeds { service, .. } => format!("needs of the service {service}").into(),
            Self::Said { about, .. } => about.as_str().into(),
        }
    }
}

impl fmt::Display for Foreign {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::LeftOut { what } => write!(f, "{what}: left out"),
            Self::Table { name, rows: 1 } => write!(f, "table {name}: 1 row that the footprint doesn't show"),
            Self::Table { name, rows } => write!(f, "table {name}: {rows} rows that the footprint doesn't show"),
            Self::CustomAction { name, does } => write!(f, "custom action {name}: {does}"),
            Self::Condition { text } => write!(f, "condition {text}: must hold"),
            Self::ConditionalComponent { component, condition } => {
                write!(f, "the component {component} is installed: if {condition}")
            }
            Self::ServiceNeeds { service, needs } => write!(f, "the service {service} needs: {needs}"),
            Self::Said { about, text } => write!(f, "{about}: {text}"),
        }
    }
}
