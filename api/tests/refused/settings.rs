use nut_cellar::Searchable;

#[derive(Searchable)]
struct Unknown {
    #[searchable(key)]
    id: i64,
    #[searchable(wieght = 4.0)]
    title: String,
}

#[derive(Searchable)]
struct Twice {
    #[searchable(key)]
    id: i64,
    #[searchable(weight = 4.0, weight = 3.0)]
    title: String,
}

#[derive(Searchable)]
struct NotOne {
    #[searchable(key)]
    id: i64,
    #[searchable(kind = "prose")]
    title: String,
}

#[derive(Searchable)]
struct Negative {
    #[searchable(key)]
    id: i64,
    #[searchable(weight = -1)]
    title: String,
}

#[derive(Searchable)]
struct OfAKey {
    #[searchable(key, weight = 4)]
    id: i64,
    title: String,
}

#[derive(Searchable)]
struct Both {
    #[searchable(key, skip)]
    id: i64,
    title: String,
}

#[derive(Searchable)]
struct SameName {
    #[searchable(key)]
    id: i64,
    title: String,
    #[searchable(name = "title")]
    subtitle: String,
}

#[derive(Searchable)]
#[searchable(tabel = "items")]
struct UnknownOfTheWhole {
    #[searchable(key)]
    id: i64,
    title: String,
}

fn main() {}
