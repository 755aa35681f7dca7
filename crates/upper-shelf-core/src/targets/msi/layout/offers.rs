//! What the product offers the system: programs, shortcuts, variables, services.

use super::{FOR_EVERYONE, ICON, Layout, Result, SETTINGS, switch};
use crate::command_line::command_line;
use crate::footprint::{
    EnvironmentAction, Place, Program, Scope, Service, ServiceStart, Shortcut, Variable, WorkingFolder,
};
use crate::targets::msi::codes::key;
use crate::targets::msi::names::ShortNames;
use crate::targets::msi::program_row::{self, ProgramRow};
use crate::targets::msi::words::{formatted, line};
use msi_database::rows::{self, Row as _};
use std::collections::HashMap;

impl Layout<'_> {
    pub(super) fn programs(&mut self) -> Result<()> {
        for Program { key, file, arguments, working_folder, console, .. } in &self.job.footprint.programs {
            self.db.create(ProgramRow::TABLE, program_row::columns());
            let folder = match working_folder {
                WorkingFolder::Unchanged => String::new(),
                WorkingFolder::Home => "home".into(),
                WorkingFolder::Install => "install".into(),
                WorkingFolder::Inside(path) => format!("install/{path}"),
            };
            self.db.add(&ProgramRow {
                program: key,
                file: file.as_str(),
                arguments: &command_line(arguments),
                working_folder: &folder,
                console: (*console).into(),
            })?;
        }
        Ok(())
    }

    pub(super) fn shortcuts(&mut self) -> Result<()> {
        let id = formatted(&self.id);
        let mut short: HashMap<Place, ShortNames> = HashMap::new();
        for Shortcut { place, name, program, arguments, description } in &self.job.footprint.shortcuts {
            let Some((file, _, first, folder)) = self.program(program) else { continue };
            let row_key = key('S', &format!("{}/{name}", place.name()), name);
            let directory = match place {
                Place::Menu => "ProgramMenuFolder",
                Place::Desktop => "DesktopFolder",
                Place::Startup => "StartupFolder",
            };
            // A component of its own, so that an administrator can leave it out. Its folder may be one of a user's, so
            // a value of that user stands for it (ICE43, ICE57).
            let condition = switch(*place).map_or(String::new(), |property| format!("{property} = 1"));
            let (component, mark) = (format!("C{row_key}"), format!("R{row_key}"));
            let (at, choice) = (self.own_key(), self.choice_of(program));
            self.component_in("INSTALLDIR", &component, self.bit_attribute(), &condition, &mark, choice.as_deref())?;
            self.registry_row(&mark, 1, &at, &row_key, "#1", &component)?;
            let all: Vec<String> = first.iter().chain(arguments).cloned().collect();
            let line = line(&all);
            let work = match folder {
                WorkingFolder::Unchanged => String::new(),
                WorkingFolder::Home => "PERSONHOME".into(),
                WorkingFolder::Install => "INSTALLDIR".into(),
                WorkingFolder::Inside(path) => self.folder_key(Some(path.clone()))?,
            };
            let name = short.entry(*place).or_default().text("", name);
            self.db.add(&rows::Shortcut {
                shortcut: &row_key,
                directory,
                name: &name,
                component: &component,
                target: &format!("[#{file}]"),
                arguments: &line,
                description: description.as_deref().unwrap_or_default(),
                icon: ICON,
                icon_index: Some(0),
                show_cmd: Some(1),
                wk_dir: &work,
                ..Default::default()
            })?;
            // The task bar keeps programs apart by it.
            let model = match self.job.footprint.main_program() {
                Some(main) if main == program => id.clone(),
                _ => format!("{id}.{}", formatted(program)),
            };
            self.db.add(&rows::MsiShortcutProperty {
                msi_shortcut_property: &format!("P{row_key}"),
                shortcut: &row_key,
                property_key: "System.AppUserModel.ID",
                prop_variant_value: &model,
            })?;
        }
        Ok(())
    }

    pub(super) fn environment(&mut self) -> Result<()> {
        let job = self.job;
        let scope = job.footprint.install.scope();
        for Variable { name, action, value } in &job.footprint.environment {
            let value = formatted(value);
            // `now` stands for what is there already.
            let with = |now: &str| match action {
                EnvironmentAction::Set => value.clone(),
                EnvironmentAction::Prepend => format!("{value};{now}"),
                EnvironmentAction::Append => format!("{now};{value}"),
            };
            let row_key = key('V', name, name);
            // `=` sets, `-` takes away with the product, `*` is the machine's environment.
            if scope == Scope::Machine {
                self.db.add(&rows::Environment {
                    environment: &row_key,
                    name: &format!("=-*{name}"),
                    value: &with("[~]"),
                    component: SETTINGS,
                })?;
                continue;
            }
            let user = if scope == Scope::Asked { format!("NOT ({FOR_EVERYONE})") } else { String::new() };
            if scope == Scope::Asked {
                let component = self.of_variable(&row_key, "m", FOR_EVERYONE)?;
                self.db.add(&rows::Environment {
                    environment: &row_key,
                    name: &format!("=-*{name}"),
                    value: &with("[~]"),
                    component: &component,
                })?;
            }
            // A user's own value hides the machine's of the same name, but for the search path.
            if *action == EnvironmentAction::Set || name.eq_ignore_ascii_case("PATH") {
                let component = if user.is_empty() { SETTINGS.into() } else { self.of_variable(&row_key, "p", &user)? };
                self.db.add(&rows::Environment {
                    environment: &format!("{row_key}.p"),
                    name: &format!("=-{name}"),
                    value: &with("[~]"),
                    component: &component,
                })?;
                continue;
            }
            let found = self.ask("VARIABLE", 1, "Environment", name)?;
            let and = if user.is_empty() { String::new() } else { format!(" AND {user}") };
            let hides = format!("(NOT {found} OR {found} ~>< \"%{name}%\")");
            for (part, condition, now) in [
                ("h", format!("{hides}{and}"), format!("%{name}%")),
                ("p", format!("NOT {hides}{and}"), "[~]".to_owned()),
            ] {
                let component = self.of_variable(&row_key, part, &condition)?;
                self.db.add(&rows::Environment {
                    environment: &format!("{row_key}.{part}"),
                    name: &format!("=-{name}"),
                    value: &with(&now),
                    component: &component,
                })?;
            }
        }
        Ok(())
    }

    /// The component of a variable that is only set under a condition.
    fn of_variable(&mut self, row_key: &str, part: &str, condition: &str) -> Result<String> {
        let component = format!("C{row_key}.{part}");
        let mark = format!("R{row_key}.{part}");
        self.registry_component(&component, self.bit_attribute(), condition, &mark)?;
        let at = self.own_key();
        self.registry_row(&mark, -1, &at, &format!("{row_key}.{part}"), "#1", &component)?;
        Ok(component)
    }

    pub(super) fn services(&mut self) -> Result<()> {
        for service in &self.job.footprint.services {
            let Service { name, title, description, program, arguments, start, account } = service;
            let Some((_, component, first, _)) = self.program(program) else { continue };
            let all: Vec<String> = first.iter().chain(arguments).cloned().collect();
            let row_key = key('S', &format!("service {name}"), name);
            let start_type = match start {
                ServiceStart::Automatic => 2,
                ServiceStart::OnDemand => 3,
                ServiceStart::Disabled => 4,
            };
            self.db.add(&rows::ServiceInstall {
                service_install: &row_key,
                name: &formatted(name),
                display_name: &formatted(title),
                // A program of its own; an error while it is installed fails the installation.
                service_type: 16,
                start_type,
                error_control: 0x8001,
                start_name: &formatted(account.as_deref().unwrap_or_default()),
                arguments: &line(&all),
                component: &component,
                description: description.as_deref().unwrap_or_default(),
                ..Default::default()
            })?;
            // Stopped before and taken away with the product; started if it starts by itself.
            let events = 2 | 32 | 128 | i32::from(*start == ServiceStart::Automatic);
            self.db.add(&rows::ServiceControl {
                service_control: &format!("{row_key}.c"),
                name: &formatted(name),
                event: events,
                wait: Some(1),
                component: &component,
                ..Default::default()
            })?;
        }
        Ok(())
    }
}
