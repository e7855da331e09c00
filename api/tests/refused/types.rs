use nut_cellar::Searchable;

struct Colour;

#[derive(Searchable)]
struct NoValue {
    #[searchable(key)]
    id: i64,
    title: String,
    colour: Colour,
}

#[derive(Searchable)]
struct NoKey {
    #[searchable(key)]
    id: f64,
    title: String,
}

#[derive(Searchable)]
struct Grams(f64);

#[derive(Searchable)]
struct NoKeyInside {
    #[searchable(key)]
    id: Grams,
    title: String,
}

fn main() {}
