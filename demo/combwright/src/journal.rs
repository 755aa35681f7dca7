//! A journal: `[hive NAME]`, then a line a visit: `2026-04-02 what was seen`.

pub struct Journal {
    pub hives: Vec<Hive>,
}

pub struct Hive {
    pub name: String,
    pub visits: Vec<(String, String)>,
}

impl Journal {
    pub fn parse(text: &str) -> Self {
        let mut hives: Vec<Hive> = Vec::new();
        for line in text.lines().map(str::trim).filter(|l| !l.is_empty() && !l.starts_with('#')) {
            if let Some(name) = line.strip_prefix("[hive ").and_then(|l| l.strip_suffix(']')) {
                hives.push(Hive { name: name.to_owned(), visits: Vec::new() });
            } else if let (Some(hive), Some((date, note))) = (hives.last_mut(), line.split_once(' ')) {
                hive.visits.push((date.to_owned(), note.trim().to_owned()));
            }
        }
        Self { hives }
    }

    pub fn report(&self) -> String {
        let mut out = String::new();
        for hive in &self.hives {
            out.push_str(&format!("{} ({} visits)\n", hive.name, hive.visits.len()));
            for (date, note) in &hive.visits {
                out.push_str(&format!("  {date}  {note}\n"));
            }
        }
        out
    }
}
