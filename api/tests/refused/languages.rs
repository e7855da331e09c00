use nut_cellar::Searchable;

#[derive(Searchable)]
#[searchable(language = "english")]
struct OfTheWhole {
    #[searchable(key)]
    id: i64,
    title: String,
}

#[derive(Searchable)]
struct OfAField {
    #[searchable(key)]
    id: i64,
    #[searchable(language = "en", languages = ["fr", "xx"])]
    title: String,
}

fn main() {}
