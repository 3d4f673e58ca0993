//! Lettering from a font of Debian's.

use ab_glyph::{Font, FontVec, PxScale, ScaleFont};
use anyhow::Context;
use tiny_skia::{Color, Pixmap};

const FOLDER: &str = "/usr/share/fonts/truetype/dejavu";

pub struct Lettering {
    font: FontVec,
}

impl Lettering {
    pub fn load(file: &str) -> anyhow::Result<Self> {
        let path = format!("{FOLDER}/{file}");
        let bytes = std::fs::read(&path).with_context(|| format!("{path}: install fonts-dejavu-core"))?;
        Ok(Self { font: FontVec::try_from_vec(bytes)? })
    }

    /// Writes `text` with its baseline at `y`, beginning at `x`.
    pub fn write(&self, picture: &mut Pixmap, text: &str, x: f32, y: f32, size: f32, color: Color) {
        let font = self.font.as_scaled(PxScale::from(size));
        let (width, height) = (picture.width() as i32, picture.height() as i32);
        let pixels = picture.data_mut();
        let mut pen = x;
        for letter in text.chars() {
            let id = font.glyph_id(letter);
            let glyph = id.with_scale_and_position(size, ab_glyph::point(pen, y));
            pen += font.h_advance(id);
            let Some(outline) = font.outline_glyph(glyph) else { continue };
            let bounds = outline.px_bounds();
            outline.draw(|column, row, coverage| {
                let (px, py) = (bounds.min.x as i32 + column as i32, bounds.min.y as i32 + row as i32);
                if px < 0 || py < 0 || px >= width || py >= height {
                    return;
                }
                let at = ((py * width + px) * 4) as usize;
                let ink = [color.red(), color.green(), color.blue(), 1.0];
                // Colours are kept multiplied by their opacity.
                for (place, ink) in pixels[at..at + 4].iter_mut().zip(ink) {
                    let mixed = f32::from(*place) * (1.0 - coverage) + ink * 255.0 * coverage;
                    *place = mixed.round() as u8;
                }
            });
        }
    }
}
