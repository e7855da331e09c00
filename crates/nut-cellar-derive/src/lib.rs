//! The derive macro [`Searchable`]: a schema from a struct, records from its values, and its values from hits.
//!
//! What always holds: what is written of a struct uses the public API alone, and what can't be is an error at the field.

mod newtype;
mod record;
mod settings;

use proc_macro::TokenStream;
use quote::ToTokens;
use syn::spanned::Spanned;
use syn::{Data, DeriveInput, Error, Fields, parse_macro_input};

/// Makes a struct searchable.
///
/// A struct with named fields is a record: each field is a column of the same name, of the kind of its type. One with a single unnamed
/// field (a newtype) is a value of the kind that is in it, and may name records if that may.
///
/// | type | kind |
/// | --- | --- |
/// | `String`, `Box<str>` | `text` |
/// | `i8` to `i64`, `u8` to `u64`, `isize`, `usize` | `integer` |
/// | `f32`, `f64` | `float` |
/// | `bool` | `boolean` |
/// | `jiff::civil::Date`, `chrono::NaiveDate`, `time::Date` | `date` |
/// | `jiff::Timestamp`, `chrono::DateTime<Utc>`, `time::OffsetDateTime` | `moment` |
/// | `(f64, f64)`: degrees north, degrees east | `point` |
/// | `Option` of these, `Vec` of these | the same, with none or one value, or any number |
///
/// Types of `chrono` and `time` take the feature of that name. Keys are whole numbers, texts, `Vec<u8>` and `[u8; N]`.
///
/// # What is said of a field: `#[searchable(…)]`
///
/// - `key`: it names the record. Several fields do so together, in their order.
/// - `skip`: it is no column, and is as it is by default in what comes from a hit.
/// - `name = "title"`: the column has another name than the field.
/// - What a schema says of a column, by the same names: `kind = "exact"`, `language = "en"`, `weight = 4.0`, `from = ["first", "last"]`,
///   `gap = 0`, `first_words = 12`, `indexed = false`, `kept = false` (which is as it is by default in what comes from a hit), and how text is read: `languages`, `language_from`,
///   `detect`, `detector`, `reading`, `symbols`, `tokeniser`, `elide`, `fold`, `accents`, `steps`, `compounds`, `stem`, `stemmer`, `forms`,
///   `stop`, `written`.
///
/// # What is said of the struct
///
/// - `language = "en"`: of all its columns of text that say none.
/// - `table = "items"`: where the rows come from, for databases. Joins and conditions are added to `schema()`.
/// - `packing = "small"`: how the values that are shown are packed.
/// - `crate = "path"`: where the library is, if not at `::nut_cellar`.
#[proc_macro_derive(Searchable, attributes(searchable))]
pub fn searchable(input: TokenStream) -> TokenStream {
    let input = parse_macro_input!(input as DeriveInput);
    let written = match &input.data {
        Data::Struct(data) => match &data.fields {
            Fields::Named(fields) => record::write(&input, fields),
            Fields::Unnamed(fields) if fields.unnamed.len() == 1 => {
                newtype::write(&input, &fields.unnamed[0])
            }
            fields => Err(no_shape(fields)),
        },
        Data::Enum(data) => Err(no_shape(&data.enum_token)),
        Data::Union(data) => Err(no_shape(&data.union_token)),
    };
    written.unwrap_or_else(Error::into_compile_error).into()
}

fn no_shape(at: &impl ToTokens) -> Error {
    let span = at.span();
    Error::new(
        span,
        "`Searchable` is for a struct with named fields, which is a record, or with one unnamed field, which is a value",
    )
}
