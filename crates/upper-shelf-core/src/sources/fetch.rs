//! The one place that fetches: over HTTP, resumed where it broke off, given up when nothing comes, never led from a protected
//! connection to a plain one.

use super::Fetching;
use crate::problem::{Code, Failure, Kind, Problem};
use crate::settings::Source;
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};
use std::sync::mpsc::{RecvTimeoutError, sync_channel};
use std::time::{Duration, Instant};

/// How often a connection that broke is made again.
const ATTEMPTS: u32 = 4;
/// Bytes that are handed on at once.
const CHUNK: usize = 1 << 17;

/// How slow a server may be.
#[derive(Debug, Clone, Copy)]
pub struct Patience {
    /// How long nothing may come.
    pub silence: Duration,
    /// The fewest bytes that have to come in such a time.
    pub least: u64,
}

impl Default for Patience {
    fn default() -> Self {
        Self { silence: Duration::from_secs(30), least: 30_000 }
    }
}

/// Why something can't be fetched.
pub(super) enum Trouble {
    /// The server or the way to it: why, and for which address.
    Server(String, String),
    /// The server won't give it, however often it is asked: why, and for which address.
    Refused(String, String),
    /// The disk.
    Disk(PathBuf, io::Error),
}

impl Trouble {
    /// The same of a source.
    pub fn of(self, source: &Source) -> Failure {
        match self {
            Self::Disk(path, e) => Failure::io("can't write", &path, e),
            Self::Server(address, why) => {
                let instead = "try again later: what is there already is not fetched again";
                unfetched(source, format!("{address}: {why}"), instead)
            }
            Self::Refused(address, why) => unfetched(source, format!("{address}: {why}"), "correct `url`"),
        }
    }
}

fn unfetched(source: &Source, why: String, instead: &str) -> Failure {
    let what = format!("the source {:?} can't be fetched", source.key);
    let problem = Problem::error(Code::Source, what).about_setting(source.setting.clone());
    Failure::new(Kind::Machine, problem.why(why).instead(instead))
}

/// How one attempt ended.
enum Ended {
    /// It may go on from here.
    Broken(String),
    /// Another attempt would end the same.
    Refused(String),
    Disk(io::Error),
}

/// Fetches an address to a file; what the file holds already is taken for its beginning.
pub(super) fn fetch(
    address: &str,
    part: &Path,
    name: &str,
    patience: Patience,
    hears: &dyn Fetching,
) -> Result<(), Trouble> {
    let server = |why: String| Trouble::Server(super::shown(address), why);
    let mut file = File::options()
        .create(true)
        .truncate(false)
        .read(true)
        .write(true)
        .open(part)
        .map_err(|e| Trouble::Disk(part.to_owned(), e))?;
    if let Some(path) = address.strip_prefix("file://").map(|_| local(address)) {
        let path = path.ok_or_else(|| server("it names no file of this machine".into()))?;
        let mut from = File::open(&path).map_err(|e| server(e.to_string()))?;
        hears.begin(name, from.metadata().ok().map(|meta| meta.len()));
        let copied = file.set_len(0).and_then(|()| io::copy(&mut from, &mut file));
        return copied.map(drop).map_err(|e| Trouble::Disk(part.to_owned(), e));
    }
    let (mut last, mut is_begun) = (String::new(), false);
    for attempt in 0..ATTEMPTS {
        if attempt > 0 {
            std::thread::sleep(Duration::from_millis(200 << attempt));
        }
        let mut begin = |bytes| {
            if !std::mem::replace(&mut is_begun, true) {
                hears.begin(name, bytes);
            }
        };
        match once(address, &mut file, patience, &mut begin, hears) {
            Ok(()) => return Ok(()),
            Err(Ended::Broken(why)) => last = why,
            Err(Ended::Refused(why)) => return Err(Trouble::Refused(super::shown(address), why)),
            Err(Ended::Disk(e)) => return Err(Trouble::Disk(part.to_owned(), e)),
        }
    }
    Err(server(format!("{last}; tried {ATTEMPTS} times")))
}

/// The file of a `file:` address.
fn local(address: &str) -> Option<PathBuf> {
    url::Url::parse(address).ok()?.to_file_path().ok()
}

fn once(
    address: &str,
    file: &mut File,
    patience: Patience,
    begin: &mut dyn FnMut(Option<u64>),
    hears: &dyn Fetching,
) -> Result<(), Ended> {
    let mut have = file.seek(SeekFrom::End(0)).map_err(Ended::Disk)?;
    // Whoever asks over a protected connection is not led to a plain one.
    let agent = ureq::Agent::config_builder()
        .http_status_as_error(false)
        .max_redirects(5)
        .https_only(address.starts_with("https://"))
        .timeout_connect(Some(patience.silence))
        .timeout_recv_response(Some(patience.silence))
        .build()
        .new_agent();
    let mut request = agent.get(address);
    if have > 0 {
        request = request.header("Range", format!("bytes={have}-"));
    }
    let response = request.call().map_err(|e| match e {
        ureq::Error::Io(_) | ureq::Error::Timeout(_) | ureq::Error::ConnectionFailed => Ended::Broken(e.to_string()),
        ureq::Error::RequireHttpsOnly(_) => Ended::Refused("it leads to a connection that is not protected".into()),
        other => Ended::Refused(other.to_string()),
    })?;
    let header = |name: &str| response.headers().get(name).and_then(|value| value.to_str().ok()).map(str::to_owned);
    match response.status().as_u16() {
        206 if header("content-range").is_some_and(|range| range.starts_with(&format!("bytes {have}-"))) => {}
        206 | 416 => {
            file.set_len(0).map_err(Ended::Disk)?;
            return Err(Ended::Broken("the server has another file now".into()));
        }
        200 => {
            have = 0;
            file.set_len(0).and_then(|()| file.seek(SeekFrom::Start(0))).map_err(Ended::Disk)?;
        }
        status if status >= 500 => return Err(Ended::Broken(format!("the server answers {}", response.status()))),
        _ => return Err(Ended::Refused(format!("the server answers {}", response.status()))),
    }
    let announced = header("content-length").and_then(|text| text.parse::<u64>().ok()).map(|more| have + more);
    begin(announced);
    hears.reached(have);
    let mut reader = response.into_body().into_reader();
    let (send, receive) = sync_channel::<io::Result<Vec<u8>>>(4);
    // A server that is silent can't be interrupted: the thread that listens to it is left behind then.
    std::thread::spawn(move || {
        loop {
            let mut bytes = vec![0; CHUNK];
            let result = reader.read(&mut bytes).map(|n| {
                bytes.truncate(n);
                bytes
            });
            let is_last = result.as_ref().map_or(true, Vec::is_empty);
            if send.send(result).is_err() || is_last {
                return;
            }
        }
    });
    let (mut began, mut came) = (Instant::now(), 0);
    loop {
        match receive.recv_timeout(patience.silence) {
            Ok(Ok(bytes)) if bytes.is_empty() => break,
            Ok(Ok(bytes)) => {
                file.write_all(&bytes).map_err(Ended::Disk)?;
                have += bytes.len() as u64;
                came += bytes.len() as u64;
                hears.reached(have);
            }
            Ok(Err(e)) => return Err(Ended::Broken(format!("the connection broke after {have} bytes: {e}"))),
            Err(RecvTimeoutError::Timeout) => {
                return Err(Ended::Broken(format!("nothing came for {} seconds", patience.silence.as_secs())));
            }
            Err(RecvTimeoutError::Disconnected) => return Err(Ended::Broken("the connection broke".into())),
        }
        if began.elapsed() >= patience.silence {
            if came < patience.least {
                return Err(Ended::Broken(format!(
                    "only {came} bytes came in {} seconds",
                    patience.silence.as_secs().max(1)
                )));
            }
            (began, came) = (Instant::now(), 0);
        }
    }
    match announced {
        Some(announced) if announced != have => {
            Err(Ended::Broken(format!("{have} bytes came, of {announced} that were announced")))
        }
        _ => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::net::TcpListener;

    struct Nobody;

    impl Fetching for Nobody {
        fn begin(&self, _: &str, _: Option<u64>) {}
        fn reached(&self, _: u64) {}
        fn end(&self) {}
    }

    /// Fetches from a server that says it has 1000 bytes, and gives one of them after each pause.
    fn from_slow(pause: Duration) -> String {
        let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
        let address = format!("http://{}/honey", listener.local_addr().expect("an address"));
        std::thread::spawn(move || {
            for mut stream in listener.incoming().flatten() {
                std::thread::spawn(move || {
                    let _ = stream.read(&mut [0; 1000]);
                    let _ = stream.write_all(b"HTTP/1.1 200 OK\r\nContent-Length: 1000\r\n\r\n");
                    while stream.write_all(b".").is_ok() {
                        std::thread::sleep(pause);
                    }
                });
            }
        });
        let folder = tempfile::tempdir().expect("a folder");
        let patience = Patience { silence: Duration::from_millis(200), least: 100 };
        match fetch(&address, &folder.path().join("part"), "honey", patience, &Nobody) {
            Err(Trouble::Server(_, why) | Trouble::Refused(_, why)) => why,
            Err(Trouble::Disk(path, e)) => format!("{}: {e}", path.display()),
            Ok(()) => "fetched".into(),
        }
    }

    #[test]
    fn a_server_that_is_silent_or_too_slow_is_given_up() {
        let silent = from_slow(Duration::from_secs(60));
        assert!(silent.contains("nothing came for 0 seconds; tried 4 times"), "{silent}");
        let slow = from_slow(Duration::from_millis(20));
        assert!(slow.contains("bytes came in"), "{slow}");
    }

    #[test]
    fn addresses_of_files_are_those_of_this_machine() {
        assert_eq!(local("file:///a%20b/c"), Some("/a b/c".into()));
        assert_eq!(local("file://elsewhere/a"), None);
    }
}
