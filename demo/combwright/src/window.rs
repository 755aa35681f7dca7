//! The window: drawn here pixel by pixel and handed to the X server as one picture.

use crate::journal::Journal;
use fontdue::Font;
use std::path::Path;
use x11rb::connection::Connection;
use x11rb::protocol::xproto::*;
use x11rb::protocol::Event;
use x11rb::wrapper::ConnectionExt as _;

const WIDTH: usize = 960;
const HEIGHT: usize = 600;
const LIST: usize = 270;
const ROW: usize = 76;
const TOP: usize = 84;

const CREAM: u32 = 0xfdf6e3;
const PANEL: u32 = 0xf4e6c1;
const AMBER: u32 = 0xe8a317;
const BROWN: u32 = 0x4a2c0a;
const SOFT: u32 = 0x8a6d3b;

struct Canvas {
    pixels: Vec<u32>,
    font: Font,
}

struct Picture {
    width: usize,
    rgba: Vec<u8>,
}

fn left_behind(path: &Path, why: impl std::fmt::Display) -> String {
    format!("{} can't be read, was it left behind? ({why})", path.display())
}

fn load_png(path: &Path) -> Result<Picture, String> {
    let file = std::fs::File::open(path).map_err(|e| left_behind(path, e))?;
    let mut decoder = png::Decoder::new(file);
    decoder.set_transformations(png::Transformations::normalize_to_color8() | png::Transformations::ALPHA);
    let mut reader = decoder.read_info().map_err(|e| left_behind(path, e))?;
    let mut rgba = vec![0; reader.output_buffer_size()];
    let info = reader.next_frame(&mut rgba).map_err(|e| left_behind(path, e))?;
    Ok(Picture { width: info.width as usize, rgba })
}

impl Canvas {
    fn blend(&mut self, x: usize, y: usize, colour: u32, alpha: u32) {
        if x >= WIDTH || y >= HEIGHT {
            return;
        }
        let old = self.pixels[y * WIDTH + x];
        let mix = |shift: u32| ((colour >> shift & 255) * alpha + (old >> shift & 255) * (255 - alpha)) / 255;
        self.pixels[y * WIDTH + x] = mix(16) << 16 | mix(8) << 8 | mix(0);
    }

    fn fill(&mut self, x: usize, y: usize, w: usize, h: usize, colour: u32) {
        (y..y + h).for_each(|y| (x..x + w).for_each(|x| self.blend(x, y, colour, 255)));
    }

    fn picture(&mut self, picture: &Picture, x: usize, y: usize) {
        for (n, p) in picture.rgba.chunks_exact(4).enumerate() {
            let colour = u32::from(p[0]) << 16 | u32::from(p[1]) << 8 | u32::from(p[2]);
            self.blend(x + n % picture.width, y + n / picture.width, colour, p[3].into());
        }
    }

    fn text(&mut self, text: &str, x: usize, baseline: usize, size: f32, colour: u32) -> usize {
        let mut pen = x as f32;
        for c in text.chars() {
            let (m, coverage) = self.font.rasterize(c, size);
            for (n, &alpha) in coverage.iter().enumerate() {
                let px = pen as i32 + m.xmin + (n % m.width) as i32;
                let py = baseline as i32 - m.height as i32 - m.ymin + (n / m.width) as i32;
                if px >= 0 && py >= 0 {
                    self.blend(px as usize, py as usize, colour, alpha.into());
                }
            }
            pen += m.advance_width;
        }
        pen as usize
    }
}

fn draw(canvas: &mut Canvas, journal: &Journal, art: &[Picture; 2], chosen: usize, footer: &str) {
    canvas.fill(0, 0, WIDTH, HEIGHT, CREAM);
    canvas.fill(0, 0, WIDTH, 64, AMBER);
    canvas.picture(&art[0], 12, 8);
    let end = canvas.text("Combwright", 72, 42, 28.0, BROWN);
    canvas.text("the hive journal of the Fernhollow Apiary Works", end + 18, 42, 16.0, BROWN);
    canvas.fill(0, 64, LIST, HEIGHT - 64 - 32, PANEL);
    for (n, hive) in journal.hives.iter().enumerate().take(6) {
        let y = TOP + n * ROW;
        if n == chosen {
            canvas.fill(8, y - 8, LIST - 16, ROW - 6, CREAM);
            canvas.fill(8, y - 8, 4, ROW - 6, AMBER);
        }
        canvas.picture(&art[1], 22, y - 2);
        canvas.text(&hive.name, 90, y + 24, 19.0, BROWN);
        let visits =
            if hive.visits.len() == 1 { "1 visit".to_owned() } else { format!("{} visits", hive.visits.len()) };
        canvas.text(&visits, 90, y + 46, 14.0, SOFT);
    }
    if let Some(hive) = journal.hives.get(chosen) {
        canvas.text(&hive.name, LIST + 32, 112, 26.0, BROWN);
        canvas.fill(LIST + 32, 126, WIDTH - LIST - 64, 2, AMBER);
        for (n, (date, note)) in hive.visits.iter().enumerate().take(11) {
            let y = 164 + n * 36;
            canvas.text(date, LIST + 32, y, 15.0, SOFT);
            canvas.text(note, LIST + 142, y, 17.0, BROWN);
        }
    }
    canvas.fill(0, HEIGHT - 32, WIDTH, 32, BROWN);
    canvas.text(footer, 14, HEIGHT - 11, 13.0, PANEL);
}

pub fn show(journal: &Journal, data: &Path, file: &Path, chosen: usize) -> Result<(), String> {
    let font = data.join("fonts/journal.ttf");
    let bytes = std::fs::read(&font).map_err(|e| left_behind(&font, e))?;
    let font = Font::from_bytes(bytes, fontdue::FontSettings::default()).map_err(|e| left_behind(&font, e))?;
    let art = [load_png(&data.join("art/sign.png"))?, load_png(&data.join("art/hive.png"))?];
    let mut canvas = Canvas { pixels: vec![0; WIDTH * HEIGHT], font };
    let mut chosen = chosen;
    let say = |e: &dyn std::fmt::Display| format!("no window can be shown ({e}); --report prints the journal instead");
    let (server, screen) = x11rb::connect(None).map_err(|e| say(&e))?;
    let screen = &server.setup().roots[screen];
    let window = server.generate_id().map_err(|e| say(&e))?;
    let events = EventMask::EXPOSURE | EventMask::BUTTON_PRESS | EventMask::KEY_PRESS;
    let settings = CreateWindowAux::new().event_mask(events).background_pixel(CREAM);
    let (w, h) = (WIDTH as u16, HEIGHT as u16);
    let made = server.create_window(
        screen.root_depth,
        window,
        screen.root,
        60,
        60,
        w,
        h,
        0,
        WindowClass::INPUT_OUTPUT,
        0,
        &settings,
    );
    made.map_err(|e| say(&e))?;
    let atom = |name: &str| -> Result<u32, String> {
        let cookie = server.intern_atom(false, name.as_bytes()).map_err(|e| say(&e))?;
        Ok(cookie.reply().map_err(|e| say(&e))?.atom)
    };
    let (protocols, close) = (atom("WM_PROTOCOLS")?, atom("WM_DELETE_WINDOW")?);
    server.change_property32(PropMode::REPLACE, window, protocols, AtomEnum::ATOM, &[close]).map_err(|e| say(&e))?;
    for (property, value) in [(AtomEnum::WM_NAME, "Combwright"), (AtomEnum::WM_CLASS, "combwright\0Combwright\0")] {
        server
            .change_property8(PropMode::REPLACE, window, property, AtomEnum::STRING, value.as_bytes())
            .map_err(|e| say(&e))?;
    }
    let gc = server.generate_id().map_err(|e| say(&e))?;
    server.create_gc(gc, window, &CreateGCAux::new()).map_err(|e| say(&e))?;
    server.map_window(window).map_err(|e| say(&e))?;
    server.flush().map_err(|e| say(&e))?;
    let footer = file.display().to_string();
    loop {
        let event = server.wait_for_event().map_err(|e| say(&e))?;
        match event {
            Event::ButtonPress(b) if (b.event_x as usize) < LIST => {
                let row = (b.event_y as usize + 8).saturating_sub(TOP) / ROW;
                if row < journal.hives.len() {
                    chosen = row;
                }
            }
            // Escape and q, as they lie on most keyboards.
            Event::KeyPress(k) if k.detail == 9 || k.detail == 24 => return Ok(()),
            Event::ClientMessage(m) if m.data.as_data32()[0] == close => return Ok(()),
            Event::Expose(_) => {}
            _ => continue,
        }
        draw(&mut canvas, journal, &art, chosen, &footer);
        // A request has a largest size: the picture goes in strips.
        for strip in (0..HEIGHT).step_by(40) {
            let rows = &canvas.pixels[strip * WIDTH..(strip + 40).min(HEIGHT) * WIDTH];
            let bytes: Vec<u8> = rows.iter().flat_map(|p| p.to_le_bytes()).collect();
            let (height, y) = ((rows.len() / WIDTH) as u16, strip as i16);
            server
                .put_image(ImageFormat::Z_PIXMAP, window, gc, w, height, 0, y, 0, screen.root_depth, &bytes)
                .map_err(|e| say(&e))?;
        }
        server.flush().map_err(|e| say(&e))?;
    }
}
