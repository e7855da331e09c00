//! Two runs of the same queries against each other: by how much they differ, and how surely.

use super::assessment::Assessment;
use super::judgments::Judgments;
use super::lots::Lots;
use super::runs::Run;
use serde::Serialize;

/// So many ways to change signs are drawn where there are more than can be gone through.
const DRAWN: u32 = 100_000;
/// Of so many differences all ways are gone through.
const ALL_OF: usize = 16;

/// A test of pairs.
#[derive(Clone, Copy, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct Paired {
    /// How much more the second has than the first, in the mean.
    pub difference: f64,
    /// The same in standard deviations of the differences (d of pairs); 0 where there are none.
    pub effect: f64,
    /// How likely a difference as large, in either direction, is where it is chance which of a pair is which.
    pub p_value: f64,
}

impl Paired {
    /// Tests pairs by randomisation (R. Fisher, "The Design of Experiments", 1935; M. Smucker, J. Allan, B. Carterette, "A Comparison of
    /// Statistical Significance Tests for Information Retrieval Evaluation", CIKM 2007): if nothing differs, each difference could as
    /// well have the other sign. All ways to choose signs are gone through for up to 16 differences; of more, 100,000 are drawn.
    ///
    /// ```
    /// use nut_cellar_core::judge::Paired;
    ///
    /// // Of the 2³ ways to choose signs two are as far from 0 as what was seen.
    /// let tested = Paired::of(&[(0.1, 0.3), (0.2, 0.3), (0.0, 0.4)], 7);
    /// assert_eq!(tested.p_value, 0.25);
    /// ```
    pub fn of(pairs: &[(f64, f64)], seed: u64) -> Self {
        let differences: Vec<_> = pairs.iter().map(|(first, second)| second - first).collect();
        let count = differences.len().max(1) as f64;
        let sum: f64 = differences.iter().sum();
        let mean = sum / count;
        let squares: f64 =
            differences.iter().map(|difference| (difference - mean) * (difference - mean)).sum();
        let deviation = (squares / (count - 1.0).max(1.0)).sqrt();
        // Those that are 0 have no sign.
        let signed: Vec<_> = differences.into_iter().filter(|difference| *difference != 0.0).collect();
        let p_value = if signed.is_empty() { 1.0 } else { share_as_far(&signed, sum, seed) };
        Self { difference: mean, effect: if deviation > 0.0 { mean / deviation } else { 0.0 }, p_value }
    }
}

/// The share of the ways to choose signs that give a sum as far from 0 as this.
fn share_as_far(differences: &[f64], sum: f64, seed: u64) -> f64 {
    // Sums are put together of those of eight differences, for each choice of their signs.
    let sum_of = |eight: &[f64], signs: u8| -> f64 {
        (0..)
            .zip(eight)
            .map(|(place, difference)| if signs >> place & 1 == 0 { *difference } else { -difference })
            .sum()
    };
    let table = |eight: &[f64]| (0..=u8::MAX).map(|signs| sum_of(eight, signs)).collect::<Vec<_>>();
    let tables: Vec<_> = differences.chunks(8).map(table).collect();
    // What rounding does to a sum must not put it nearer to 0 than itself.
    let rounding = 1e-12 * differences.iter().map(|difference| difference.abs()).sum::<f64>();
    let is_as_far = |other: f64| other.abs() >= sum.abs() - rounding;

    if differences.len() <= ALL_OF {
        // Of fewer than eight, choices for those that are not there count alike for all.
        let seconds = tables.get(1).map_or(&[0.0][..], Vec::as_slice);
        let ways = tables[0].iter().flat_map(|first| seconds.iter().map(move |second| first + second));
        return ways.filter(|other| is_as_far(*other)).count() as f64
            / (tables[0].len() * seconds.len()) as f64;
    }
    let mut lots = Lots(seed);
    let mut drawn = || -> f64 {
        let eights = tables.chunks(8).map(|tables| {
            let choices = lots.bits().to_le_bytes();
            tables.iter().zip(choices).map(|(table, signs)| table[usize::from(signs)]).sum::<f64>()
        });
        eights.sum()
    };
    let as_far = (0..DRAWN).filter(|_| is_as_far(drawn())).count();
    // What was seen is one of the ways, too.
    (as_far + 1) as f64 / f64::from(DRAWN + 1)
}

/// A query for which two runs are not worth the same.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct Differing {
    /// What the query is called.
    pub id: String,
    /// What was typed.
    pub text: String,
    /// What the first is worth.
    pub first: f64,
    /// What the second is worth.
    pub second: f64,
    /// The records that are right and stand elsewhere: their names, and their ranks in both.
    pub moved: Vec<(String, Option<usize>, Option<usize>)>,
}

/// Two runs against each other by one measure.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct Compared {
    /// The test.
    pub paired: Paired,
    /// The queries that differ, those first that the second wins most by.
    pub queries: Vec<Differing>,
}

/// Puts two runs of the same queries against each other, by the measure at this place of what was assessed.
pub fn compare(
    first: (&Run, &Assessment),
    second: (&Run, &Assessment),
    judgments: &Judgments,
    measure: usize,
    seed: u64,
) -> Compared {
    let both = || first.1.queries.iter().zip(&second.1.queries);
    let pairs: Vec<_> = both().map(|(one, other)| (one.values[measure], other.values[measure])).collect();
    let differing = both().zip(&pairs).filter(|(_, (one, other))| one.to_bits() != other.to_bits());
    let mut queries: Vec<_> = differing
        .map(|((query, _), (one, other))| {
            let right = judgments.of(&query.id).filter(|(_, grade)| *grade > 0);
            let ranks = right.map(|(record, _)| {
                (record.to_owned(), first.0.rank(&query.id, record), second.0.rank(&query.id, record))
            });
            Differing {
                id: query.id.clone(),
                text: query.text.clone(),
                first: *one,
                second: *other,
                moved: ranks.filter(|(_, before, after)| before != after).collect(),
            }
        })
        .collect();
    queries.sort_by(|one, other| (other.second - other.first).total_cmp(&(one.second - one.first)));
    Compared { paired: Paired::of(&pairs, seed), queries }
}
