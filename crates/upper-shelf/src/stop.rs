//! When somebody stops the program (Ctrl-C, a terminal that is closed, a build server that gives up), what is under way
//! on the disk is taken away first.

use upper_shelf_core::litter;

/// Listens from now on. The program then ends as it would have without this: by the signal.
#[cfg(unix)]
pub fn leave_nothing_behind() {
    use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
    use signal_hook::iterator::Signals;
    // Whoever started this in the background may have said that it is to go on.
    let heard = [SIGHUP, SIGINT, SIGTERM].into_iter().filter(|s| !is_ignored(*s));
    let Ok(mut signals) = Signals::new(heard) else { return };
    std::thread::spawn(move || {
        if let Some(signal) = signals.forever().next() {
            litter::clear();
            let _ = signal_hook::low_level::emulate_default_handler(signal);
        }
    });
}

/// Whether this process was started with a signal ignored, where the system tells (`nohup`, `&` in a script).
#[cfg(unix)]
fn is_ignored(signal: i32) -> bool {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let mask =
        status.lines().find_map(|l| l.strip_prefix("SigIgn:")).and_then(|m| u64::from_str_radix(m.trim(), 16).ok());
    mask.is_some_and(|mask| mask >> (signal - 1) & 1 == 1)
}

/// Listens from now on.
#[cfg(windows)]
pub fn leave_nothing_behind() {
    // Without it a stopped run leaves its files under way, which the next build takes away.
    let _ = ctrlc::set_handler(|| {
        litter::clear();
        std::process::exit(crate::exit::STOPPED);
    });
}
