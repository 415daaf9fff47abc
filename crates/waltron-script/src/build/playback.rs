//! Recordings put out: channels mapped, scaled, cut.

use super::*;
use waltron_core::injection::program::Playback as Played;
use waltron_core::injection::samples::{Recording, Track};

/// How often a recording is played at most.
const MOST_TIMES: f64 = 1e6;

impl Builder<'_> {
    pub(super) fn playback(
        &mut self,
        playback: &Playback,
        span: Range<usize>,
    ) -> Result<(), Problem> {
        let context = &self.scene.context;
        let Some(file) = context.recordings.get(&playback.file) else {
            let message = format!("there is no recording `{}`", playback.file);
            return Err(
                Problem::new(playback.at.0.clone(), message).help("names are relative to the plan")
            );
        };
        let bound = |expr: &Option<Expr>| match expr {
            Some(expr) => needed(expr, Dimension::TIME, self.scene).map(Some),
            None => Ok(None),
        };
        let (from, to) = (bound(&playback.part.0)?, bound(&playback.part.1)?);
        let count = file.channels.iter().map(|c| c.samples.len()).min().unwrap_or(0);
        let length = || text(seconds(count as f64 / file.rate_hz));
        // A sample more: the last one lasts until the next would come.
        let beyond = |t: &f64| *t < 0.0 || *t * file.rate_hz > count as f64 + 1.0;
        if let Some(t) = [from, to].into_iter().flatten().find(beyond) {
            let message = format!(
                "{} lies outside the recording, which lasts {}",
                text(seconds(t)),
                length()
            );
            return Err(Problem::new(playback.at.0.clone(), message));
        }
        let index = |t: f64| ((t * file.rate_hz).round().max(0.0) as usize).min(count);
        let (start, end) = (index(from.unwrap_or(0.0)), to.map_or(count, index));
        if start >= end {
            let message = format!("nothing is left to play: the recording lasts {}", length());
            return Err(Problem::new(playback.at.0.clone(), message));
        }
        let mut tracks = Vec::new();
        for (channel, recorded, factor) in &playback.map {
            let Some(dimension) = context.capability.channel_dimension(channel.as_str()) else {
                let (message, help) = context.no_channel(channel.as_str());
                return Err(Problem { help, ..Problem::new(playback.at.0.clone(), message) });
            };
            if tracks.iter().any(|t: &Track| t.channel == *channel) {
                let message = format!("`{channel}` is played twice");
                return Err(Problem::new(playback.at.0.clone(), message)
                    .help("a channel puts out one wave; leave one of the two out"));
            }
            let Some(source) = file.channels.iter().find(|c| c.id == *recorded) else {
                let ids: Vec<&str> = file.channels.iter().map(|c| c.id.as_str()).collect();
                let message = format!("the recording has no channel `{recorded}`");
                return Err(Problem::new(playback.at.0.clone(), message)
                    .help(format!("its channels are {}", ids.join(", "))));
            };
            // A factor may carry a unit, such as a shunt's: what comes out must be the channel's.
            let factor = match factor {
                Some(expr) => {
                    let wanted = source.dimension.map_or(Dimension::NUMBER, |d| dimension.per(d));
                    needed(expr, wanted, self.scene)?
                }
                None if source.dimension.is_some_and(|d| d != dimension) => {
                    let found = source.dimension.unwrap_or_default();
                    let message =
                        format!("`{recorded}` is {found}, `{channel}` puts out {dimension}");
                    return Err(Problem::new(playback.at.0.clone(), message)
                        .help("convert it with a factor, as in `ia = \"U1\" * 0.1 A / V`"));
                }
                None => 1.0,
            };
            let samples = source.samples[start..end].iter().map(|s| s * factor).collect();
            tracks.push(Track {
                channel: channel.clone(),
                is_current: dimension == Dimension::CURRENT,
                samples: Arc::new(samples),
            });
        }
        let times = match &playback.times {
            Some(expr) => {
                let times = needed(expr, Dimension::NUMBER, self.scene)?;
                if times.fract() != 0.0 || !(1.0..=MOST_TIMES).contains(&times) {
                    let message = "a recording is played a whole number of times, 1 to 1000000";
                    return Err(Problem::new(expr.span.clone(), message));
                }
                times as u32
            }
            None => 1,
        };
        let recording = Recording::new(file.rate_hz, file.frequency_hz, tracks);
        let profile = Profile::Playback(Played { file: playback.file.clone(), recording, times });
        self.add(("playback", "playback"), profile, &playback.until, span, None)
    }
}
