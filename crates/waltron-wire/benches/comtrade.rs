//! Reading BINARY32 data (12 analog, 16 status channels) against summing the same bytes.
//!
//! `WALTRON_BENCH_MB` sets the size; 64 MB by default, 500 for the figure in the documentation.

use criterion::{Criterion, Throughput, criterion_group, criterion_main};
use std::hint::black_box;
use waltron_wire::comtrade::{Config, Data, Survey};

fn reading(c: &mut Criterion) {
    let megabytes: usize =
        std::env::var("WALTRON_BENCH_MB").ok().and_then(|n| n.parse().ok()).unwrap_or(64);
    let channels: String =
        (1..=12).map(|n| format!("{n},I{n},A,,A,0.001,0,0,-1,1,1,1,S\n")).collect();
    let states: String = (1..=16).map(|n| format!("{n},D{n},,,0\n")).collect();
    let samples = megabytes * 1_000_000 / (8 + 48 + 2);
    let text = format!(
        "a,b,2013\n28,12A,16D\n{channels}{states}50\n1\n10000,{samples}\nx\nx\nBINARY32\n1\n"
    );
    let config = Config::parse(&text).expect("a good configuration");
    let size = config.sample_bytes();
    let byte = |i: usize| match i % size {
        // Status channels change now and then.
        place if place >= size - 2 => (i / size / 10_000) as u8,
        _ => (i * 31 % 127) as u8,
    };
    let bytes: Vec<u8> = (0..samples * size).map(byte).collect();
    let mut group = c.benchmark_group("comtrade");
    group.throughput(Throughput::Bytes(bytes.len() as u64)).sample_size(10);
    group.bench_function("sum of the bytes", |b| {
        b.iter(|| black_box(&bytes).iter().map(|x| u64::from(*x)).sum::<u64>());
    });
    group.bench_function("binary32, every analog value scaled and summed", |b| {
        b.iter(|| {
            let data = Data::new(&config, black_box(&bytes)).expect("good data");
            let mut sums = [0.0; 12];
            data.for_each_analog(|values| sums.iter_mut().zip(values).for_each(|(s, v)| *s += v));
            sums
        });
    });
    // What `wave info` does once the file is in memory.
    group.bench_function("binary32, surveyed", |b| {
        b.iter(|| {
            let data = Data::new(&config, black_box(&bytes)).expect("good data");
            Survey::of(&data)
        });
    });
    group.finish();
}

criterion_group!(benches, reading);
criterion_main!(benches);
