//! What the holding picture says, and our mark, on nothing.

use anyhow::Context;
use tiny_skia::{Color, LineCap, Paint, PathBuilder, Pixmap, Stroke, Transform};

use crate::text::Lettering;

const WIDTH: u32 = 1100;
const HEIGHT: u32 = 330;

pub fn draw() -> anyhow::Result<Pixmap> {
    let mut picture = Pixmap::new(WIDTH, HEIGHT).context("no room")?;
    let bold = Lettering::load("DejaVuSans-Bold.ttf")?;
    let plain = Lettering::load("DejaVuSans.ttf")?;
    mark(&mut picture)?;
    bold.write(&mut picture, "Back in a moment", 330.0, 158.0, 84.0, Color::from_rgba8(246, 243, 234, 255));
    plain.write(&mut picture, "The picture is on its way.", 334.0, 232.0, 46.0, Color::from_rgba8(138, 209, 200, 255));
    Ok(picture)
}

/// One line in, three lines out.
fn mark(picture: &mut Pixmap) -> anyhow::Result<()> {
    let scale = Transform::from_scale(9.6, 9.6).post_translate(-20.0, 12.0);
    for (color, bend) in [([138, 209, 200], -7.0), ([246, 243, 234], 0.0), ([240, 169, 75], 7.0f32)] {
        let mut path = PathBuilder::new();
        path.move_to(5.0, 16.0);
        path.line_to(11.0, 16.0);
        path.cubic_to(16.0, 16.0, 15.0, 16.0 + bend, 20.0, 16.0 + bend);
        path.line_to(27.0, 16.0 + bend);
        let path = path.finish().context("no path")?;
        let mut paint = Paint::default();
        paint.set_color_rgba8(color[0], color[1], color[2], 255);
        paint.anti_alias = true;
        let stroke = Stroke { width: 2.6, line_cap: LineCap::Round, ..Stroke::default() };
        picture.stroke_path(&path, &paint, &stroke, scale, None);
    }
    Ok(())
}
