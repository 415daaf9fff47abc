//! PNG bytes of a diagram.

use super::PlotError;
use super::draw::{Joins, draw};
use super::style::SCALE;
use plotters::prelude::BitMapBackend;
use waltron_core::section::Chart;

/// Draws a chart as PNG bytes of `size` (width, height) in pixels.
///
/// Only the built-in fonts are used, so that the picture is the same on every machine.
///
/// # Errors
/// [`PlotError`] when there is nothing to draw, the drawing library refuses, or the picture cannot be
/// encoded.
pub fn png(chart: &Chart, size: (u32, u32)) -> Result<Vec<u8>, PlotError> {
    let (width, height) = size;
    let drawn_size = (width * SCALE, height * SCALE);
    let mut drawn = vec![0; drawn_size.0 as usize * drawn_size.1 as usize * BYTES];
    draw(chart, size, BitMapBackend::with_buffer(&mut drawn, drawn_size), Joins::Mitred)?;
    let pixels = averaged(&drawn, size);
    let rendering = |e: png::EncodingError| PlotError::Rendering(e.to_string());
    let mut bytes = Vec::new();
    let mut encoder = png::Encoder::new(&mut bytes, width, height);
    encoder.set_color(png::ColorType::Rgb);
    encoder.set_depth(png::BitDepth::Eight);
    let mut writer = encoder.write_header().map_err(rendering)?;
    writer.write_image_data(&pixels).map_err(rendering)?;
    writer.finish().map_err(rendering)?;
    Ok(bytes)
}

/// Bytes of a pixel: red, green, blue.
const BYTES: usize = 3;

/// Every pixel the mean of the drawn ones it covers, which smooths edges.
fn averaged(drawn: &[u8], (width, height): (u32, u32)) -> Vec<u8> {
    let (width, height, scale) = (width as usize, height as usize, SCALE as usize);
    let row_bytes = width * scale * BYTES;
    let mut pixels = Vec::with_capacity(width * height * BYTES);
    let mut sums = vec![0u32; width * BYTES];
    for rows in drawn.chunks_exact(row_bytes * scale) {
        sums.fill(0);
        for row in rows.chunks_exact(row_bytes) {
            for (sum, block) in sums.chunks_exact_mut(BYTES).zip(row.chunks_exact(scale * BYTES)) {
                for pixel in block.chunks_exact(BYTES) {
                    sum.iter_mut().zip(pixel).for_each(|(s, p)| *s += u32::from(*p));
                }
            }
        }
        // A mean of bytes fits a byte.
        pixels.extend(sums.iter().map(|s| (s / (SCALE * SCALE)) as u8));
    }
    pixels
}
