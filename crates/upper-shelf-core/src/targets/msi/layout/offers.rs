//! What the product offers the system: programs, shortcuts, variables, services.

use super::{FOR_EVERYONE, ICON, Layout, PROGRAMS, Result, SETTINGS, program_columns, switch};
use crate::command_line::command_line;
use crate::footprint::{
    EnvironmentAction, Place, Program, Scope, Service, ServiceStart, Shortcut, Variable, WorkingFolder,
};
use crate::targets::msi::codes::key;
use crate::targets::msi::names::ShortNames;
use crate::targets::msi::words::{formatted, line};
use msi_database::database::Value;
use std::collections::HashMap;

impl Layout<'_> {
    pub(super) fn programs(&mut self) -> Result<()> {
        for Program { key, file, arguments, working_folder, console, .. } in &self.job.footprint.programs {
            self.db.create(PROGRAMS, program_columns());
            let folder = match working_folder {
                WorkingFolder::Unchanged => String::new(),
                WorkingFolder::Home => "home".into(),
                WorkingFolder::Install => "install".into(),
                WorkingFolder::Inside(path) => format!("install/{path}"),
            };
            let row = [
                self.db.text(key),
                self.db.text(file.as_str()),
                self.db.text(&command_line(arguments)),
                self.db.text(&folder),
                Value::Int((*console).into()),
            ];
            self.db.insert(PROGRAMS, &row)?;
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
            // A component of its own, so that an administrator can leave it out. Its folder may be one of a person's, so
            // a value of that person stands for it (ICE43, ICE57).
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
            let row = [
                self.db.text(&row_key),
                self.db.text(directory),
                self.db.text(&name),
                self.db.text(&component),
                self.db.text(&format!("[#{file}]")),
                self.db.text(&line),
                self.db.text(description.as_deref().unwrap_or_default()),
                Value::Null,
                self.db.text(ICON),
                Value::Int(0),
                Value::Int(1),
                self.db.text(&work),
                Value::Null,
                Value::Null,
                Value::Null,
                Value::Null,
            ];
            self.db.insert("Shortcut", &row)?;
            // The task bar keeps programs apart by it.
            let model = match self.job.footprint.main_program() {
                Some(main) if main == program => id.clone(),
                _ => format!("{id}.{}", formatted(program)),
            };
            self.row("MsiShortcutProperty", &[&format!("P{row_key}"), &row_key, "System.AppUserModel.ID", &model])?;
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
                self.row("Environment", &[&row_key, &format!("=-*{name}"), &with("[~]"), SETTINGS])?;
                continue;
            }
            let person = if scope == Scope::Asked { format!("NOT ({FOR_EVERYONE})") } else { String::new() };
            if scope == Scope::Asked {
                let component = self.of_variable(&row_key, "m", FOR_EVERYONE)?;
                self.row("Environment", &[&row_key, &format!("=-*{name}"), &with("[~]"), &component])?;
            }
            // A person's own value hides the machine's of the same name, but for the search path.
            if *action == EnvironmentAction::Set || name.eq_ignore_ascii_case("PATH") {
                let component =
                    if person.is_empty() { SETTINGS.into() } else { self.of_variable(&row_key, "p", &person)? };
                self.row("Environment", &[&format!("{row_key}.p"), &format!("=-{name}"), &with("[~]"), &component])?;
                continue;
            }
            let found = self.ask("VARIABLE", 1, "Environment", name)?;
            let and = if person.is_empty() { String::new() } else { format!(" AND {person}") };
            let hides = format!("(NOT {found} OR {found} ~>< \"%{name}%\")");
            for (part, condition, now) in [
                ("h", format!("{hides}{and}"), format!("%{name}%")),
                ("p", format!("NOT {hides}{and}"), "[~]".to_owned()),
            ] {
                let component = self.of_variable(&row_key, part, &condition)?;
                self.row(
                    "Environment",
                    &[&format!("{row_key}.{part}"), &format!("=-{name}"), &with(&now), &component],
                )?;
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
            let row = [
                self.db.text(&row_key),
                self.db.text(&formatted(name)),
                self.db.text(&formatted(title)),
                // A program of its own; an error while it is installed fails the installation.
                Value::Int(16),
                Value::Int(start_type),
                Value::Int(0x8001),
                Value::Null,
                Value::Null,
                self.db.text(&formatted(account.as_deref().unwrap_or_default())),
                Value::Null,
                self.db.text(&line(&all)),
                self.db.text(&component),
                self.db.text(description.as_deref().unwrap_or_default()),
            ];
            self.db.insert("ServiceInstall", &row)?;
            // Stopped before and taken away with the product; started if it starts by itself.
            let events = 2 | 32 | 128 | i32::from(*start == ServiceStart::Automatic);
            let row = [
                self.db.text(&format!("{row_key}.c")),
                self.db.text(&formatted(name)),
                Value::Int(events),
                Value::Null,
                Value::Int(1),
                self.db.text(&component),
            ];
            self.db.insert("ServiceControl", &row)?;
        }
        Ok(())
    }
}
