//! Marks: told apart by shape as well as by colour.

use super::PlotError;
use super::frame::Area;
use super::style::{FAIL, INK, OPEN, PASS, drawing, px};
use plotters::prelude::*;
use waltron_core::section::Outcome;

pub(super) fn symbol<B: DrawingBackend>(
    root: &Area<B>,
    (x, y): (i32, i32),
    outcome: Outcome,
) -> Result<(), PlotError> {
    let r = px(4.6) as i32;
    let halo = WHITE.stroke_width(px(1.0));
    match outcome {
        Outcome::Pass => {
            root.draw(&Circle::new((x, y), r, PASS.filled())).map_err(drawing)?;
            root.draw(&Circle::new((x, y), r, halo)).map_err(drawing)
        }
        Outcome::Fail => {
            let r = px(5.5) as i32;
            for dy in [-r, r] {
                let ends = vec![(x - r, y - dy), (x + r, y + dy)];
                let stroke = FAIL.stroke_width(px(2.6));
                root.draw(&PathElement::new(ends, stroke)).map_err(drawing)?;
            }
            Ok(())
        }
        Outcome::Open => {
            let ends = [(x - r, y - r), (x + r, y + r)];
            root.draw(&Rectangle::new(ends, OPEN.stroke_width(px(2.0)))).map_err(drawing)
        }
        Outcome::Measured => {
            let r = px(2.8) as i32;
            root.draw(&Circle::new((x, y), r, WHITE.filled())).map_err(drawing)?;
            root.draw(&Circle::new((x, y), r, INK.stroke_width(px(1.4)))).map_err(drawing)
        }
        Outcome::Rated => {
            let r = px(6.0) as i32;
            let points = vec![(x, y - r), (x + r, y), (x, y + r), (x - r, y), (x, y - r)];
            root.draw(&PathElement::new(points, INK.stroke_width(px(1.8)))).map_err(drawing)
        }
        Outcome::Nothing => {
            let points = vec![(x, y - r), (x + r, y + r), (x - r, y + r), (x, y - r)];
            root.draw(&PathElement::new(points, PASS.stroke_width(px(1.8)))).map_err(drawing)
        }
    }
}
