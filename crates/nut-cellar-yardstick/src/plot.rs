//! What was measured, drawn.

use crate::building::Built;
use crate::waiting::Waited;
use plotters::coord::Shift;
use plotters::prelude::*;
use std::error::Error;

/// The sections that are drawn, the largest first, with their colours; the others are drawn as one.
const DRAWN: [(&str, RGBColor); 7] = [
    ("kept values", RGBColor(0xd9, 0xd4, 0xc7)),
    ("postings", RGBColor(0x2f, 0x5d, 0x50)),
    ("positions", RGBColor(0x6a, 0x9a, 0x7b)),
    ("terms", RGBColor(0xb5, 0x65, 0x2b)),
    ("letters", RGBColor(0xe0, 0xa4, 0x58)),
    ("forms", RGBColor(0x7a, 0x4a, 0x6d)),
    ("lengths", RGBColor(0x4c, 0x6f, 0xa8)),
];
const OTHERS: RGBColor = RGBColor(0x55, 0x55, 0x55);
/// What a search takes, from what is always done to what can be left out.
const WAITED: [(&str, RGBColor); 3] =
    [("finding the best", DRAWN[1].1), ("the exact total", DRAWN[2].1), ("reading values", DRAWN[4].1)];
const SIZE: (u32, u32) = (1_280, 800);

/// Where the bytes of each cellar are, as shares of its text, and what building it took beside counting the words: as SVG.
///
/// # Errors
/// If it can't be drawn.
pub fn sections(all: &[Built]) -> Result<String, Box<dyn Error>> {
    let mut out = String::new();
    {
        let area = SVGBackend::with_string(&mut out, SIZE).into_drawing_area();
        area.fill(&WHITE)?;
        let (bytes, times) = area.margin(24, 24, 24, 24).split_vertically(500);
        draw_bytes(&bytes, all)?;
        draw_times(&times, all)?;
        area.present()?;
    }
    Ok(out)
}

type Area<'a> = DrawingArea<SVGBackend<'a>, Shift>;

/// The name of a bar.
fn name(built: &Built) -> String {
    format!("{}, {}", built.source, built.language)
}

/// Bars from the left, one for each cellar, the first on top: lengths with colours, one after the other.
fn bars(
    area: &Area<'_>,
    (title, axis): (&str, &str),
    all: &[(String, Vec<(f64, RGBColor)>)],
    mark: Option<f64>,
) -> Result<(), Box<dyn Error>> {
    let longest =
        all.iter().map(|(_, parts)| parts.iter().map(|(length, _)| length).sum()).fold(0.0, f64::max);
    let count = i32::try_from(all.len())?;
    let mut chart = ChartBuilder::on(area)
        .caption(title, ("sans-serif", 20))
        .margin(8)
        .x_label_area_size(40)
        .y_label_area_size(210)
        .build_cartesian_2d(
            0.0..longest.max(mark.unwrap_or(0.0)) * 1.03 + f64::EPSILON,
            (0..count - 1).into_segmented(),
        )?;
    let named = |place: &SegmentValue<i32>| match place {
        SegmentValue::CenterOf(place) => {
            let from_top = usize::try_from(count - 1 - place).ok().and_then(|place| all.get(place));
            from_top.map_or_else(String::new, |(name, _)| name.clone())
        }
        _ => String::new(),
    };
    chart
        .configure_mesh()
        .disable_y_mesh()
        .y_labels(all.len())
        .y_label_formatter(&named)
        .x_desc(axis)
        .label_style(("sans-serif", 15))
        .draw()?;
    for (place, (_, parts)) in (0..count).rev().zip(all) {
        let mut start = 0.0;
        for (length, colour) in parts {
            let corners =
                [(start, SegmentValue::Exact(place)), (start + length, SegmentValue::Exact(place + 1))];
            let mut bar = Rectangle::new(corners, colour.filled());
            bar.set_margin(5, 5, 0, 0);
            chart.draw_series([bar])?;
            start += length;
        }
    }
    if let Some(mark) = mark {
        let ends = [(mark, SegmentValue::Exact(0)), (mark, SegmentValue::Exact(count))];
        chart.draw_series([PathElement::new(ends, BLACK.stroke_width(2))])?;
    }
    Ok(())
}

fn draw_bytes(area: &Area<'_>, all: &[Built]) -> Result<(), Box<dyn Error>> {
    let of = |built: &Built| {
        let share = |bytes: u64| bytes as f64 / built.text.max(1) as f64;
        let drawn = DRAWN.iter().map(|(name, colour)| {
            let bytes = built.sections.iter().find(|(known, _)| known == name).map_or(0, |(_, bytes)| *bytes);
            (share(bytes), *colour)
        });
        let mut parts: Vec<_> = drawn.collect();
        let others = built.sections.iter().filter(|(name, _)| DRAWN.iter().all(|(drawn, _)| drawn != name));
        parts.push((share(others.map(|(_, bytes)| bytes).sum()), OTHERS));
        (name(built), parts)
    };
    let (legend, chart) = area.split_vertically(36);
    draw_legend(&legend, &[&DRAWN[..], &[("others", OTHERS)]].concat())?;
    let all: Vec<_> = all.iter().map(of).collect();
    bars(&chart, ("Where the bytes of a cellar are", "bytes for each byte of text"), &all, None)
}

/// What a user waits for on the first source, by place and kind of query: as SVG.
///
/// # Errors
/// If it can't be drawn.
pub fn waits(all: &[Waited]) -> Result<String, Box<dyn Error>> {
    let source = all.first().map_or("nothing", |one| one.source.as_str());
    let mut out = String::new();
    {
        let area = SVGBackend::with_string(&mut out, SIZE).into_drawing_area();
        area.fill(&WHITE)?;
        let (legend, chart) = area.margin(24, 24, 24, 24).split_vertically(36);
        draw_legend(&legend, &WAITED)?;
        // The ways of one kind at one place leave out ever more.
        let of_ways: Vec<_> = all.iter().filter(|one| one.source == source).collect();
        let bar = |ways: &[&Waited]| {
            let medians = ways.iter().rev().map(|way| way.median_us);
            let steps = medians.scan(0.0, |before, median| {
                let step = (median - *before).max(0.0);
                *before = median.max(*before);
                Some(step)
            });
            let parts = steps.zip(WAITED).map(|(step, (_, colour))| (step, colour)).collect();
            (format!("{}: {}", ways[0].place, ways[0].kind), parts)
        };
        let drawn: Vec<_> = of_ways.chunks(WAITED.len()).map(bar).collect();
        let title = format!("What a user waits for: {source}");
        bars(&chart, (&title, "median, in microseconds"), &drawn, None)?;
        area.present()?;
    }
    Ok(out)
}

/// Names with their colours, from the left.
fn draw_legend(area: &Area<'_>, all: &[(&str, RGBColor)]) -> Result<(), Box<dyn Error>> {
    let mut left = 120;
    for (name, colour) in all {
        area.draw(&Rectangle::new([(left, 10), (left + 16, 26)], colour.filled()))?;
        area.draw(&Text::new(*name, (left + 22, 12), ("sans-serif", 15)))?;
        left += 46 + 9 * i32::try_from(name.len())?;
    }
    Ok(())
}

fn draw_times(area: &Area<'_>, all: &[Built]) -> Result<(), Box<dyn Error>> {
    let of = |built: &Built| {
        let counting = built.word_count?;
        let (one, two) = (built.seconds? / counting, built.seconds_of_two? / counting);
        Some((name(built), vec![(two, DRAWN[1].1), ((one - two).max(0.0), DRAWN[2].1)]))
    };
    let all: Vec<_> = all.iter().filter_map(of).collect();
    if all.is_empty() {
        return Ok(());
    }
    let axis = "building with two threads (dark) and with one, ÷ counting the words with one (the line)";
    bars(area, ("What building takes", axis), &all, Some(1.0))
}
