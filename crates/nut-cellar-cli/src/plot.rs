//! What was judged, drawn as SVG.

use nut_cellar::judge::{Assessment, Measure};
use nut_cellar::{Error, ErrorKind, Result};
use plotters::coord::Shift;
use plotters::prelude::*;

const SIZE: (u32, u32) = (1_280, 800);
/// What stands for the first ranking, and for the second.
const COLOURS: [RGBColor; 2] = [RGBColor(0xb5, 0x65, 0x2b), RGBColor(0x2f, 0x5d, 0x50)];
const NAMES: [&str; 2] = ["first ranking", "second ranking"];

type Area<'a> = DrawingArea<SVGBackend<'a>, Shift>;
type Drawn = std::result::Result<(), Box<dyn std::error::Error>>;

/// A measure of each query, those first for which the first ranking is worth the most; and its mean over the first 1, 2, 3 … records.
/// Each run was assessed by the measure of all these depths.
pub fn judged(measure: Measure, runs: &[Assessment]) -> Result<String> {
    let mut out = String::new();
    let drawn = draw(&mut out, measure, runs);
    drawn.map_err(|error| Error::new(ErrorKind::Place, format!("The picture can't be drawn: {error}.")))?;
    Ok(out)
}

fn draw(out: &mut String, measure: Measure, runs: &[Assessment]) -> Drawn {
    let area = SVGBackend::with_string(out, SIZE).into_drawing_area();
    area.fill(&WHITE)?;
    let (above, below) = area.margin(16, 16, 24, 24).split_vertically(430);
    by_query(&above, measure, runs)?;
    by_depth(&below, measure, runs)?;
    area.present()?;
    Ok(())
}

fn by_query(area: &Area<'_>, measure: Measure, runs: &[Assessment]) -> Drawn {
    let deepest = measure.depth() - 1;
    let mut values: Vec<Vec<f64>> = (0..runs[0].queries.len())
        .map(|query| runs.iter().map(|run| run.queries[query].values[deepest]).collect())
        .collect();
    values.sort_by(|one, other| {
        other[0].total_cmp(&one[0]).then(other.last().unwrap_or(&0.0).total_cmp(one.last().unwrap_or(&0.0)))
    });
    let title = match runs.len() {
        1 => format!("{measure} of each query"),
        _ => format!("{measure} of each query: a line leads from the first ranking to the second"),
    };
    let mut chart = ChartBuilder::on(area)
        .caption(title, ("sans-serif", 20))
        .margin(8)
        .x_label_area_size(24)
        .y_label_area_size(48)
        .build_cartesian_2d(-0.5..values.len() as f64 - 0.5, -0.02..1.04)?;
    chart
        .configure_mesh()
        .max_light_lines(0)
        .disable_x_mesh()
        .x_labels(0)
        .y_label_formatter(&|value| format!("{value:.1}"))
        .x_desc("queries, the best of the first ranking first")
        .label_style(("sans-serif", 15))
        .draw()?;
    let radius = if values.len() > 200 { 2 } else { 4 };
    for (query, values) in values.iter().enumerate() {
        let x = query as f64;
        if let [first, second] = values[..]
            && first.to_bits() != second.to_bits()
        {
            let colour = COLOURS[usize::from(second > first)];
            chart.draw_series([PathElement::new(
                [(x, first), (x, second)],
                colour.mix(0.6).stroke_width(2),
            )])?;
        }
        for (run, value) in values.iter().enumerate() {
            chart.draw_series([Circle::new((x, *value), radius, COLOURS[run].filled())])?;
        }
    }
    Ok(())
}

fn by_depth(area: &Area<'_>, measure: Measure, runs: &[Assessment]) -> Drawn {
    let curves: Vec<Vec<f64>> =
        runs.iter().map(|run| (0..measure.depth()).map(|place| run.mean(place)).collect()).collect();
    let top = curves.iter().flatten().copied().fold(0.05, f64::max) * 1.08;
    let name = measure.to_string();
    let name = name.split('@').next().unwrap_or_default();
    let mut chart = ChartBuilder::on(area)
        .caption(format!("{name} of the first k, in the mean"), ("sans-serif", 20))
        .margin(8)
        .x_label_area_size(40)
        .y_label_area_size(48)
        .build_cartesian_2d(1.0..(measure.depth() as f64).max(1.5), 0.0..top)?;
    chart
        .configure_mesh()
        .max_light_lines(0)
        .x_labels(measure.depth().min(12))
        .x_label_formatter(&|k| format!("{k:.0}"))
        .y_label_formatter(&|value| format!("{value:.2}"))
        .x_desc("k")
        .label_style(("sans-serif", 15))
        .draw()?;
    for ((curve, colour), name) in curves.iter().zip(COLOURS).zip(NAMES) {
        let points: Vec<_> = (1_u32..).zip(curve).map(|(k, mean)| (f64::from(k), *mean)).collect();
        let line = chart.draw_series([PathElement::new(points.clone(), colour.stroke_width(2))])?;
        line.label(name).legend(move |(x, y)| Rectangle::new([(x, y - 5), (x + 16, y + 5)], colour.filled()));
        chart.draw_series(points.into_iter().map(|point| Circle::new(point, 3, colour.filled())))?;
    }
    if runs.len() > 1 {
        chart
            .configure_series_labels()
            .position(SeriesLabelPosition::LowerRight)
            .background_style(WHITE.mix(0.8))
            .border_style(BLACK.mix(0.3))
            .label_font(("sans-serif", 15))
            .draw()?;
    }
    Ok(())
}
