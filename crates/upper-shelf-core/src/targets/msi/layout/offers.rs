//! What the product offers the system: programs, shortcuts, variables, services.

use super::{ICON, Layout, PROGRAMS, Result, SETTINGS, program_columns, switch};
use crate::footprint::{EnvironmentAction, Place, Service, ServiceStart, Trace, WorkingFolder};
use crate::targets::msi::codes::key;
use crate::targets::msi::names::ShortNames;
use crate::targets::msi::words::{command_line, formatted};
use msi_database::database::Value;
use std::collections::HashMap;

impl Layout<'_> {
    pub(super) fn programs(&mut self) -> Result<()> {
        for trace in self.job.footprint.traces() {
            let Trace::Program { key, file, arguments, working_folder, console, .. } = trace else { continue };
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
        for trace in self.job.footprint.traces() {
            let Trace::Shortcut { place, name, program, arguments, description } = trace else { continue };
            let Some((file, mut component, first, folder)) = self.program(program) else { continue };
            let row_key = key('S', &format!("{}/{name}", place.name()), name);
            let directory = match place {
                Place::Menu => "ProgramMenuFolder",
                Place::Desktop => "DesktopFolder",
                Place::Startup => "StartupFolder",
            };
            if let Some(property) = switch(*place) {
                // A component of its own, so that an administrator can leave it out.
                component = format!("C{row_key}");
                let at = self.own_key();
                self.registry_component(&component, self.bit_attribute(), property, &format!("R{row_key}"))?;
                self.registry_row(&format!("R{row_key}"), -1, &at, &row_key, "#1", &component)?;
            }
            let all: Vec<String> = first.iter().chain(arguments).cloned().collect();
            let line = formatted(&command_line(&all));
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
            self.row("MsiShortcutProperty", &[&format!("P{row_key}"), &row_key, "System.AppUserModel.ID", &id])?;
        }
        Ok(())
    }

    pub(super) fn environment(&mut self) -> Result<()> {
        // `=` sets, `-` takes away with the product, `*` is the machine's environment.
        let flags = if self.job.footprint.rule("scope") == Some("machine") { "=-*" } else { "=-" };
        for trace in self.job.footprint.traces() {
            let Trace::Environment { name, action, value } = trace else { continue };
            let value = formatted(value);
            let value = match action {
                EnvironmentAction::Set => value,
                EnvironmentAction::Prepend => format!("{value};[~]"),
                EnvironmentAction::Append => format!("[~];{value}"),
            };
            self.row("Environment", &[&key('V', name, name), &format!("{flags}{name}"), &value, SETTINGS])?;
        }
        Ok(())
    }

    pub(super) fn services(&mut self) -> Result<()> {
        for trace in self.job.footprint.traces() {
            let Trace::Service(service) = trace else { continue };
            let Service { name, title, description, program, arguments, start, account } = &**service;
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
                self.db.text(&formatted(&command_line(&all))),
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
