//! The river: everything that moves comes back to its place at the end of the clip.

use std::f32::consts::TAU;

use tiny_skia::{
    Color, FillRule, GradientStop, LinearGradient, Paint, PathBuilder, Pixmap, Point, Rect, SpreadMode, Stroke,
    Transform,
};

use crate::text::Lettering;
use crate::{FRAME_RATE, FRAMES, HEIGHT, WIDTH};

const W: f32 = WIDTH as f32;
const HORIZON: f32 = 250.0;

/// Where the finishing post stands.
const FINISH: f32 = 930.0;

pub struct Artist {
    backdrop: Pixmap,
    plain: Lettering,
    bold: Lettering,
    mono: Lettering,
}

impl Artist {
    pub fn new() -> anyhow::Result<Self> {
        Ok(Self {
            backdrop: backdrop(),
            plain: Lettering::load("DejaVuSans.ttf")?,
            bold: Lettering::load("DejaVuSans-Bold.ttf")?,
            mono: Lettering::load("DejaVuSansMono.ttf")?,
        })
    }

    pub fn draw(&self, number: u32) -> Pixmap {
        let mut picture = self.backdrop.clone();
        let turn = number as f32 / FRAMES as f32;
        waves(&mut picture, turn);
        buoys(&mut picture, turn, 345.0, 0.75);
        boat(&mut picture, turn, 400.0, 0.8, 0.02, Color::from_rgba8(178, 58, 62, 255));
        buoys(&mut picture, turn, 455.0, 1.0);
        boat(&mut picture, turn, 525.0, 1.05, 0.0, Color::from_rgba8(34, 86, 120, 255));
        post(&mut picture, turn);
        self.captions(&mut picture, number);
        picture
    }

    fn captions(&self, picture: &mut Pixmap, number: u32) {
        let white = Color::from_rgba8(250, 250, 246, 255);
        let soft = Color::from_rgba8(190, 214, 220, 255);
        fill_rect(picture, 48.0, 604.0, 560.0, 76.0, Color::from_rgba8(14, 40, 54, 235));
        fill_rect(picture, 48.0, 604.0, 6.0, 76.0, Color::from_rgba8(240, 176, 64, 255));
        self.bold.write(picture, "Wexcombe Reach Regatta", 72.0, 637.0, 28.0, white);
        self.plain.write(picture, "Final of the eights · lane 1 Boathouse, lane 2 Mill Lane", 72.0, 666.0, 18.0, soft);
        fill_rect(picture, 968.0, 604.0, 264.0, 76.0, Color::from_rgba8(14, 40, 54, 235));
        let hundredths = number * 100 / FRAME_RATE;
        let clock = format!("00:{:02}.{:02}", hundredths / 100, hundredths % 100);
        self.mono.write(picture, &clock, 986.0, 644.0, 38.0, white);
        self.mono.write(picture, &format!("frame {number:03}"), 986.0, 670.0, 20.0, soft);
    }
}

fn paint(color: Color) -> Paint<'static> {
    let mut paint = Paint { anti_alias: true, ..Paint::default() };
    paint.set_color(color);
    paint
}

fn fill_rect(picture: &mut Pixmap, x: f32, y: f32, width: f32, height: f32, color: Color) {
    if let Some(rect) = Rect::from_xywh(x, y, width, height) {
        picture.fill_rect(rect, &paint(color), Transform::identity(), None);
    }
}

fn gradient(picture: &mut Pixmap, top: f32, bottom: f32, from: Color, to: Color) {
    let stops = vec![GradientStop::new(0.0, from), GradientStop::new(1.0, to)];
    let (start, end) = (Point::from_xy(0.0, top), Point::from_xy(0.0, bottom));
    if let (Some(shader), Some(rect)) = (
        LinearGradient::new(start, end, stops, SpreadMode::Pad, Transform::identity()),
        Rect::from_ltrb(0.0, top, W, bottom),
    ) {
        picture.fill_rect(rect, &Paint { shader, ..Paint::default() }, Transform::identity(), None);
    }
}

fn fill(picture: &mut Pixmap, builder: PathBuilder, color: Color) {
    if let Some(path) = builder.finish() {
        picture.fill_path(&path, &paint(color), FillRule::Winding, Transform::identity(), None);
    }
}

fn stroke(picture: &mut Pixmap, points: [(f32, f32); 2], width: f32, color: Color) {
    let mut builder = PathBuilder::new();
    builder.move_to(points[0].0, points[0].1);
    builder.line_to(points[1].0, points[1].1);
    if let Some(path) = builder.finish() {
        let stroke = Stroke { width, ..Stroke::default() };
        picture.stroke_path(&path, &paint(color), &stroke, Transform::identity(), None);
    }
}

/// Sky, hills, trees and still water.
fn backdrop() -> Pixmap {
    let mut picture = Pixmap::new(WIDTH, HEIGHT).expect("the size is not zero");
    gradient(&mut picture, 0.0, HORIZON, Color::from_rgba8(126, 178, 208, 255), Color::from_rgba8(240, 226, 200, 255));
    let mut sun = PathBuilder::new();
    sun.push_circle(1010.0, 128.0, 44.0);
    fill(&mut picture, sun, Color::from_rgba8(255, 240, 198, 255));
    for (base, height, color) in
        [(196.0, 46.0, Color::from_rgba8(136, 164, 160, 255)), (222.0, 30.0, Color::from_rgba8(94, 134, 116, 255))]
    {
        let mut hill = PathBuilder::new();
        hill.move_to(0.0, HORIZON);
        for step in 0..=64 {
            let x = step as f32 * W / 64.0;
            hill.line_to(x, base - height * ((x / 210.0 + base).sin() * 0.6 + (x / 97.0).cos() * 0.3));
        }
        hill.line_to(W, HORIZON);
        hill.close();
        fill(&mut picture, hill, color);
    }
    for tree in 0..34 {
        let x = tree as f32 * 39.0 + 11.0 * (tree as f32 * 2.3).sin();
        let mut crown = PathBuilder::new();
        crown.push_circle(x, HORIZON - 18.0, 17.0 + 7.0 * (tree as f32 * 1.7).sin());
        fill(&mut picture, crown, Color::from_rgba8(58, 98, 74, 255));
    }
    fill_rect(&mut picture, 0.0, HORIZON - 10.0, W, 14.0, Color::from_rgba8(116, 128, 78, 255));
    gradient(
        &mut picture,
        HORIZON + 4.0,
        HEIGHT as f32,
        Color::from_rgba8(128, 172, 184, 255),
        Color::from_rgba8(28, 78, 100, 255),
    );
    picture
}

fn waves(picture: &mut Pixmap, turn: f32) {
    for row in 0..22 {
        let depth = row as f32 / 22.0;
        let y = HORIZON + 14.0 + depth * depth * 440.0;
        let spacing = 90.0 + 130.0 * depth;
        let shift = turn * spacing * (1 + row % 3) as f32;
        let mut x = -spacing + (shift + row as f32 * 37.0) % spacing;
        while x < W + spacing {
            let lift = 2.0 * (TAU * (turn * 2.0 + x.rem_euclid(spacing) / spacing)).sin();
            let color = Color::from_rgba8(226, 240, 240, 60);
            stroke(picture, [(x, y + lift), (x + 18.0 + 40.0 * depth, y + lift)], 1.0 + 2.0 * depth, color);
            x += spacing;
        }
    }
}

fn buoys(picture: &mut Pixmap, turn: f32, y: f32, scale: f32) {
    for place in 0..13 {
        let bob = 2.0 * (TAU * (turn * 4.0 + place as f32 * 0.21)).sin();
        let mut buoy = PathBuilder::new();
        buoy.push_circle(place as f32 * 106.0 + 20.0, y + bob, 6.0 * scale);
        fill(picture, buoy, Color::from_rgba8(244, 150, 58, 255));
    }
}

/// An eight with its crew, going from beyond one side to beyond the other.
fn boat(picture: &mut Pixmap, turn: f32, y: f32, scale: f32, lead: f32, color: Color) {
    let length = 330.0 * scale;
    let phase = TAU * turn * 8.0;
    let surge = 5.0 * phase.sin();
    let x = -length + (turn + lead).fract() * (W + 2.0 * length) - length * 0.5 + surge;
    let mut hull = PathBuilder::new();
    hull.move_to(x, y);
    hull.quad_to(x + length * 0.5, y + 20.0 * scale, x + length, y - 3.0 * scale);
    hull.quad_to(x + length * 0.5, y - 7.0 * scale, x, y);
    hull.close();
    fill(picture, hull, color);
    for seat in 0..8 {
        let swing = phase.sin() * 9.0 * scale;
        let sx = x + length * (0.16 + 0.085 * seat as f32) - swing * 0.5;
        let side = if seat % 2 == 0 { 1.0 } else { -0.55 };
        let reach = 34.0 * scale;
        let blade = (sx + phase.cos() * 22.0 * scale, y + side * reach + 5.0 * scale * phase.sin());
        stroke(picture, [(sx, y - 4.0 * scale), blade], 2.0 * scale, Color::from_rgba8(236, 226, 200, 255));
        let mut rower = PathBuilder::new();
        rower.push_circle(sx, y - 11.0 * scale, 6.5 * scale);
        rower.push_circle(sx + swing * 0.3, y - 22.0 * scale, 4.5 * scale);
        fill(picture, rower, Color::from_rgba8(246, 240, 228, 255));
    }
}

/// The finishing post with its flag.
fn post(picture: &mut Pixmap, turn: f32) {
    stroke(picture, [(FINISH, 176.0), (FINISH, 590.0)], 5.0, Color::from_rgba8(250, 248, 240, 255));
    let mut flag = PathBuilder::new();
    flag.move_to(FINISH, 178.0);
    for step in 0..=10 {
        let x = step as f32 * 9.0;
        flag.line_to(FINISH + x, 178.0 + 6.0 * (TAU * (turn * 6.0 - step as f32 * 0.08)).sin() * step as f32 / 10.0);
    }
    for step in (0..=10).rev() {
        let x = step as f32 * 9.0;
        flag.line_to(FINISH + x, 226.0 + 6.0 * (TAU * (turn * 6.0 - step as f32 * 0.08)).sin() * step as f32 / 10.0);
    }
    flag.close();
    fill(picture, flag, Color::from_rgba8(240, 176, 64, 255));
}
