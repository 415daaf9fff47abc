//! Making samples, against a plain loop of one sine for each sample and channel.

use criterion::{Criterion, Throughput, criterion_group, criterion_main};
use std::hint::black_box;
use waltron_core::injection::program::{Program, Segment};
use waltron_core::injection::stimulus::{Drive, Harmonic, Stimulus};
use waltron_core::injection::waveform::{pieces, render};
use waltron_core::quantity::phasor::Phasor;
use waltron_core::quantity::{Frequency, Measure, amperes, degrees, seconds};
use waltron_core::text::name::Name;

const CHANNELS: usize = 12;
const RATE_HZ: f64 = 20_000.0;
const SECONDS: f64 = 5.0;

fn synthesis(c: &mut Criterion) {
    let drive = |k: usize| {
        let phasor = Phasor::new(amperes(1.0 + k as f64), degrees(30.0 * k as f64));
        let mut drive = Drive::sine(Name::from(format!("i{k}")), phasor, Frequency::from_si(50.0));
        for order in [3, 5, 7, 9, 11] {
            drive.set_harmonic(Harmonic::new(order, 0.05, degrees(10.0)));
        }
        drive
    };
    let stimulus = Stimulus { currents: (0..CHANNELS).map(drive).collect(), voltages: Vec::new() };
    let program = Program::of(vec![Segment::hold("x", stimulus, seconds(SECONDS))]);
    let pieces = pieces(&program, None);
    let samples = (RATE_HZ * SECONDS) as usize;
    let mut group = c.benchmark_group("12 channels");
    group.throughput(Throughput::Elements((samples * CHANNELS) as u64)).sample_size(10);
    group.bench_function("fundamental and 5 harmonics", |b| {
        b.iter(|| render(black_box(&pieces), RATE_HZ).expect("short enough"));
    });
    group.bench_function("plain loop of one sine", |b| {
        b.iter(|| {
            let mut all: Vec<Vec<f64>> = Vec::with_capacity(CHANNELS);
            for k in 0..CHANNELS {
                let (amplitude, angle) = (black_box(1.0 + k as f64), black_box(0.5 * k as f64));
                let step = std::f64::consts::TAU * 50.0 / RATE_HZ;
                all.push(
                    (0..samples).map(|n| amplitude * (step * n as f64 + angle).sin()).collect(),
                );
            }
            all
        });
    });
    group.finish();
}

criterion_group!(benches, synthesis);
criterion_main!(benches);
