//! Search in memory, in a few lines: `cargo run --example in_memory`

use nut_cellar::{Cellar, Find, Marks, Result, Searchable};

#[derive(Searchable)]
#[searchable(language = "en")]
struct Item {
    #[searchable(key)]
    no: i64,
    #[searchable(weight = 4.0)]
    title: String,
    notes: String,
}

fn main() -> Result<()> {
    let cellar = Cellar::in_memory(Item::schema())?;
    let items = [
        (17, "Walnut box", "two brass hinges, one missing"),
        (18, "Brass doorknob", "found in a walnut box"),
        (19, "Three umbrellas", "dripping <since> Tuesday"),
    ];
    cellar.publish(|batch| {
        items.into_iter().try_for_each(|(no, title, notes)| {
            batch.put(&Item { no, title: title.into(), notes: notes.into() }.into_record()?)
        })
    })?;

    for query in ["walnut boxes", "\"walnut box\" title:brass", "umbrella drips"] {
        println!("{query}");
        let marks = Marks::new("<mark>", "</mark>").escaping_html();
        for hit in cellar.find(query, &Find::new().limit(5).with_marks())?.hits {
            println!("  {}  {:.3}  {}", hit.key, hit.score, hit.marked("notes", &marks));
        }
    }
    Ok(())
}
