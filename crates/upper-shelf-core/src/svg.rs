//! Drawings from outside, read so that they can do no harm: nothing of the machine is looked at, and size, depth and time
//! have limits. A drawing is looked through before it is understood, because depth is what ends a program.

use crate::font;
use flate2::read::GzDecoder;
use quick_xml::events::{BytesStart, Event};
use quick_xml::reader::Reader;
use resvg::usvg;
use std::collections::HashMap;
use std::io::Read;
use std::sync::Arc;
use std::time::Duration;

/// Plain bytes of a drawing, at most.
const BYTES: u64 = 16 << 20;
/// Elements that lie in each other, those that are referred to included. Drawing programs stay below 30.
const DEPTH: u32 = 96;
/// Elements to be drawn, each counted as often as it is referred to.
const ELEMENTS: u64 = 200_000;
/// Pixels of all pictures inside.
const PIXELS: u64 = 32 << 20;
/// How long a drawing may take to be read or drawn once. Usual ones take milliseconds.
const TIME: Duration = Duration::from_secs(20);
/// Room for [`DEPTH`] elements in the reader and in the one who draws.
const STACK: usize = 64 << 20;

/// The fonts that text is drawn with.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Fonts {
    /// None: text is left out, the same on every machine.
    None,
    /// The tool's own.
    Own,
}

/// The plain bytes of a drawing that may be read; the end of a sentence on why not.
pub(crate) fn plain(bytes: &[u8]) -> Result<Vec<u8>, String> {
    let too_large = || format!("it has more than {} MiB", BYTES >> 20);
    let plain = if bytes.starts_with(&[0x1f, 0x8b]) {
        let mut plain = Vec::new();
        GzDecoder::new(bytes).take(BYTES + 1).read_to_end(&mut plain).map_err(|e| e.to_string())?;
        plain
    } else {
        bytes.to_vec()
    };
    if plain.len() as u64 > BYTES {
        return Err(too_large());
    }
    let text = plain.strip_prefix(b"\xEF\xBB\xBF").unwrap_or(&plain);
    if !text.trim_ascii_start().starts_with(b"<") || !text.windows(3).any(|w| w == b"svg") {
        return Err("it is neither an SVG nor a PNG".into());
    }
    look_through(&plain)?;
    Ok(plain)
}

/// Reads a drawing that was [looked through](plain).
pub(crate) fn tree(plain: &[u8], fonts: Fonts) -> Result<usvg::Tree, String> {
    let plain = plain.to_vec();
    in_time(move || usvg::Tree::from_data(&plain, &options(fonts)).map_err(|e| e.to_string()))?
}

fn options(fonts: Fonts) -> usvg::Options<'static> {
    let plain = match fonts {
        Fonts::None => usvg::Options::default(),
        Fonts::Own => font::options(),
    };
    let resolver = usvg::ImageHrefResolver {
        resolve_data: Box::new(|mime, data, _| picture(mime, data)),
        resolve_string: Box::new(|_, _| None),
    };
    usvg::Options { image_href_resolver: resolver, ..plain }
}

/// A picture of pixels inside a drawing; what else there may be (a drawing again) is left out.
fn picture(mime: &str, data: Arc<Vec<u8>>) -> Option<usvg::ImageKind> {
    match mime {
        "image/png" => Some(usvg::ImageKind::PNG(data)),
        "image/jpg" | "image/jpeg" => Some(usvg::ImageKind::JPEG(data)),
        "image/gif" => Some(usvg::ImageKind::GIF(data)),
        "image/webp" => Some(usvg::ImageKind::WEBP(data)),
        _ => None,
    }
}

/// Does something with room for deep drawings, and not for ever: what takes longer is left behind, which only a program
/// that is about to end may do.
pub(crate) fn in_time<T: Send + 'static>(what: impl FnOnce() -> T + Send + 'static) -> Result<T, String> {
    let (send, receive) = std::sync::mpsc::channel();
    let thread = std::thread::Builder::new().stack_size(STACK).spawn(move || {
        // Nobody listens any more when it took too long.
        let _ = send.send(what());
    });
    thread.map_err(|e| e.to_string())?;
    receive.recv_timeout(TIME).map_err(|_| format!("it takes longer than {} seconds to draw", TIME.as_secs()))
}

/// An element, as far as it tells how much work a drawing is.
#[derive(Default)]
struct Element {
    children: Vec<usize>,
    /// Names of the elements that it refers to.
    refers: Vec<String>,
}

/// Elements with what they refer to.
#[derive(Default)]
struct Outline {
    elements: Vec<Element>,
    ids: HashMap<String, usize>,
    pixels: u64,
}

fn look_through(bytes: &[u8]) -> Result<(), String> {
    let mut reader = Reader::from_reader(bytes);
    reader.config_mut().check_end_names = false;
    let mut outline = Outline { elements: vec![Element::default()], ..Outline::default() };
    let mut open = vec![0];
    let mut style: Option<String> = None;
    loop {
        match reader.read_event().map_err(|e| e.to_string())? {
            Event::Start(start) => {
                if open.len() as u32 > DEPTH {
                    return Err(too_deep());
                }
                open.push(outline.element(&start, &open)?);
                if start.local_name().as_ref() == b"style" {
                    style = Some(String::new());
                }
            }
            Event::Empty(start) => drop(outline.element(&start, &open)?),
            Event::End(end) => {
                if end.local_name().as_ref() == b"style"
                    && let Some(text) = style.take()
                {
                    if text.contains("@import") {
                        return Err("its style sheet imports another one".into());
                    }
                    // A style may be anybody's: it counts where the drawing itself does.
                    outline.elements[0].refers.extend(urls(&text)?);
                }
                // Behind the last element there may be rubbish, which the reader itself refuses.
                if open.len() > 1 {
                    open.pop();
                }
            }
            Event::Text(text) => style.iter_mut().for_each(|s| s.push_str(&String::from_utf8_lossy(&text))),
            Event::CData(text) => style.iter_mut().for_each(|s| s.push_str(&String::from_utf8_lossy(&text))),
            Event::GeneralRef(reference) => {
                style.iter_mut().for_each(|s| s.push_str(&crate::xml::referred(&reference)));
            }
            Event::DocType(text) => {
                let text = String::from_utf8_lossy(&text).into_owned();
                let declared = text.split_once("<!ENTITY").map_or("", |(_, entities)| entities);
                if declared.replace("<!ENTITY", "").contains('<') || declared.contains('&') {
                    return Err("it hides elements in entities".into());
                }
                if declared.split_whitespace().any(|word| word == "SYSTEM" || word == "PUBLIC") {
                    return Err("it includes another file as an entity".into());
                }
            }
            Event::PI(pi) if pi.starts_with(b"xml-stylesheet") => return Err("it includes a style sheet".into()),
            Event::Eof => break,
            _ => {}
        }
    }
    if outline.pixels > PIXELS {
        return Err(format!("the pictures in it have more than {} million pixels", PIXELS / 1_000_000));
    }
    let mut known = vec![None; outline.elements.len()];
    let (count, _) = outline.work(0, 0, &mut known)?;
    if count > ELEMENTS {
        return Err(format!("it draws more than {ELEMENTS} elements, counting those that are reused"));
    }
    Ok(())
}

fn too_deep() -> String {
    format!("its elements are nested more than {DEPTH} deep")
}

/// What `url(…)` names in a text: only parts of the drawing itself may be named.
fn urls(text: &str) -> Result<Vec<String>, String> {
    let mut all = Vec::new();
    for part in text.split("url(").skip(1) {
        let inside = part.split(')').next().unwrap_or("").trim().trim_matches(['"', '\'']);
        match inside.strip_prefix('#') {
            Some(id) => all.push(id.to_owned()),
            None if inside.starts_with("data:") => {}
            None => return Err(elsewhere(inside)),
        }
    }
    Ok(all)
}

fn elsewhere(what: &str) -> String {
    format!("it refers to {what:?}, which is not in it; a picture may only be inside, as `data:`")
}

impl Outline {
    fn element(&mut self, start: &BytesStart, open: &[usize]) -> Result<usize, String> {
        let number = self.elements.len();
        if number as u64 > ELEMENTS {
            return Err(format!("it has more than {ELEMENTS} elements"));
        }
        let tag = start.local_name();
        let tag = String::from_utf8_lossy(tag.as_ref()).into_owned();
        let mut element = Element::default();
        for attribute in start.attributes().with_checks(false) {
            let attribute = attribute.map_err(|e| e.to_string())?;
            let value = attribute.unescape_value().map_err(|e| e.to_string());
            let name = attribute.key.local_name();
            match name.as_ref() {
                b"id" => drop(self.ids.insert(value?.into_owned(), number)),
                b"href" => {
                    let value = value?;
                    match value.strip_prefix('#') {
                        Some(id) => element.refers.push(id.to_owned()),
                        None if value.starts_with("data:") => self.pixels += pixels_of(&value)?,
                        // A link that people could follow is drawn like anything else.
                        None if tag == "a" || value.is_empty() => {}
                        None => return Err(elsewhere(&value)),
                    }
                }
                // Names of namespaces are often entities; they refer to nothing.
                _ => element.refers.extend(value.map(|v| urls(&v)).unwrap_or_else(|_| Ok(Vec::new()))?),
            }
        }
        self.elements.push(element);
        let parent = open.last().copied().unwrap_or(0);
        self.elements[parent].children.push(number);
        Ok(number)
    }

    /// How many elements one stands for, and how deep they lie.
    fn work(&self, number: usize, depth: u32, known: &mut [Option<(u64, u32)>]) -> Result<(u64, u32), String> {
        if let Some((count, below)) = known[number] {
            return if depth + below > DEPTH { Err(too_deep()) } else { Ok((count, below)) };
        }
        if depth > DEPTH {
            return Err(too_deep());
        }
        // What refers to itself is left out when it is drawn.
        known[number] = Some((1, 0));
        let element = &self.elements[number];
        let referred = element.refers.iter().filter_map(|id| self.ids.get(id).copied());
        let (mut count, mut below) = (1u64, 0);
        for other in element.children.iter().copied().chain(referred) {
            let (c, b) = self.work(other, depth + 1, known)?;
            count = count.saturating_add(c);
            below = below.max(b + 1);
        }
        known[number] = Some((count, below));
        Ok((count, below))
    }
}

/// Pixels of a picture in a `data:` address.
fn pixels_of(address: &str) -> Result<u64, String> {
    let unknown = || "a picture in it can't be understood".to_owned();
    let data = data_url::DataUrl::process(address).map_err(|_| unknown())?;
    if data.mime_type().subtype.contains("svg") {
        return Err("there is a drawing in it as a picture".into());
    }
    let (bytes, _) = data.decode_to_vec().map_err(|_| unknown())?;
    let size = imagesize::blob_size(&bytes).map_err(|_| unknown())?;
    Ok((size.width as u64).saturating_mul(size.height as u64))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn svg(inside: &str) -> String {
        format!(
            "<svg xmlns=\"http://www.w3.org/2000/svg\" xmlns:xlink=\"http://www.w3.org/1999/xlink\" width=\"64\" height=\"64\">{inside}</svg>"
        )
    }

    fn refused(inside: &str, why: &str) {
        let said = plain(svg(inside).as_bytes()).expect_err("refused");
        assert!(said.contains(why), "{said}");
    }

    #[test]
    fn nothing_outside_the_drawing_is_taken_in() {
        for name in ["/etc/passwd", "file:///dev/zero", "../other.svg#x", "https://example.org/x.png"] {
            refused(&format!("<image width=\"9\" height=\"9\" xlink:href=\"{name}\"/>"), "which is not in it");
            refused(&format!("<image href=\"{name}\"/>"), "which is not in it");
        }
        refused("<use href=\"other.svg#a\"/>", "which is not in it");
        refused("<rect fill=\"url(/etc/x.svg#a)\"/>", "which is not in it");
        refused("<style>@import 'x.css';</style>", "imports");
        refused("<style>.a{fill:&#117;r&#x6c;('x.svg#y')}</style>", "which is not in it");
        refused("<style><![CDATA[.a{fill:url('x.svg#y')}]]></style>", "which is not in it");
        let entity = format!("<!DOCTYPE svg [<!ENTITY x SYSTEM \"/etc/passwd\">]>{}", svg("&x;"));
        assert!(plain(entity.as_bytes()).expect_err("refused").contains("another file"));
        let hidden = format!("<!DOCTYPE svg [<!ENTITY x \"<g><g/></g>\">]>{}", svg("&x;"));
        assert!(plain(hidden.as_bytes()).expect_err("refused").contains("entities"));
    }

    #[test]
    fn what_would_end_or_stop_the_program_is_refused_at_once() {
        let began = std::time::Instant::now();
        refused(&format!("{}{}", "<g>".repeat(100_000), "</g>".repeat(100_000)), "nested more than");
        // Deep by reference, not by letters.
        let chain: String = (0..5000).map(|n| format!("<g id=\"a{n}\"><use href=\"#a{}\"/></g>", n + 1)).collect();
        refused(&chain, "nested more than");
        // Wide by reference: ten to the eighth.
        let tens = |n| format!("<g id=\"b{n}\">{}</g>", format!("<use href=\"#b{}\"/>", n + 1).repeat(10));
        refused(&(0..8).map(tens).collect::<String>(), "elements");
        refused(&"<g/>".repeat(200_100), "elements");
        refused("<image href=\"data:image/svg+xml,%3Csvg/%3E\"/>", "a drawing in it");
        assert!(began.elapsed() < TIME, "it is not drawn first");
    }

    #[test]
    fn usual_drawings_pass() {
        let inside = "<defs><linearGradient id=\"g\"><stop offset=\"0\"/></linearGradient></defs>\
            <a href=\"https://example.org\"><rect width=\"9\" height=\"9\" fill=\"url(#g)\"/></a><use href=\"#g\"/>\
            <image href=\"data:image/gif;base64,R0lGODlhAQABAIAAAAAAAP///yH5BAEAAAAALAAAAAABAAEAAAIBRAA7\"/>";
        let text = format!("<!DOCTYPE svg [<!ENTITY ns \"http://www.w3.org/2000/svg\">]>{}", svg(inside));
        let plain = plain(text.as_bytes()).expect("passes");
        assert_eq!(tree(&plain, Fonts::None).expect("a tree").size().width(), 64.0);
        let mut packed = Vec::new();
        flate2::read::GzEncoder::new(text.as_bytes(), flate2::Compression::fast())
            .read_to_end(&mut packed)
            .expect("packed");
        assert_eq!(super::plain(&packed).expect("passes"), plain);
    }
}
