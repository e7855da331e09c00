use nut_cellar::Searchable;

#[derive(Searchable)]
struct WithoutKey {
    title: String,
}

#[derive(Searchable)]
struct Pair(i64, String);

#[derive(Searchable)]
enum Status {
    Waiting,
}

#[derive(Searchable)]
#[searchable(table = "items")]
struct Title(String);

fn main() {}
