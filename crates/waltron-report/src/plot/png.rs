//! PNG bytes of an SVG picture.

use super::PlotError;
use super::draw::{FONT, REGULAR, SEMIBOLD};
use resvg::{tiny_skia, usvg};
use std::sync::Arc;

/// Renders SVG text made by [`super::svg`] at `zoom` times its size.
///
/// Only the built-in fonts are used, so that the picture is the same on every machine.
///
/// # Errors
/// [`PlotError::Rendering`] when the text is no SVG or the picture too large.
pub fn png(svg: &str, zoom: f32) -> Result<Vec<u8>, PlotError> {
    let rendering = |error: &dyn std::fmt::Display| PlotError::Rendering(error.to_string());
    let mut fonts = usvg::fontdb::Database::new();
    fonts.load_font_data(REGULAR.to_vec());
    fonts.load_font_data(SEMIBOLD.to_vec());
    fonts.set_sans_serif_family(FONT);
    let options = usvg::Options {
        fontdb: Arc::new(fonts),
        font_family: FONT.to_owned(),
        ..usvg::Options::default()
    };
    let tree = usvg::Tree::from_str(svg, &options).map_err(|e| rendering(&e))?;
    let size = tree.size();
    let (width, height) = (size.width() * zoom, size.height() * zoom);
    let mut pixels = tiny_skia::Pixmap::new(width.ceil() as u32, height.ceil() as u32)
        .ok_or_else(|| rendering(&"the picture has no size"))?;
    let transform = tiny_skia::Transform::from_scale(zoom, zoom);
    resvg::render(&tree, transform, &mut pixels.as_mut());
    pixels.encode_png().map_err(|e| rendering(&e))
}
