//! What is said in `#[searchable(…)]`, and how it is read: each thing once, and known.

use proc_macro2::{Span, TokenStream};
use quote::{quote, quote_spanned};
use std::num::NonZero;
use syn::meta::ParseNestedMeta;
use syn::punctuated::Punctuated;
use syn::spanned::Spanned;
use syn::{
    Attribute, Error, Ident, Lit, LitBool, LitInt, LitStr, Path, Result, Token, bracketed, parse_quote, token,
};

/// The kinds of columns, as schemas and as the library call them.
const KINDS: [(&str, &str); 8] = [
    ("text", "Text"),
    ("exact", "Exact"),
    ("integer", "Integer"),
    ("float", "Float"),
    ("boolean", "Boolean"),
    ("date", "Date"),
    ("moment", "Moment"),
    ("point", "Point"),
];

/// What stands for one of a list: the type, and what it may be.
type Choice = (&'static str, &'static [(&'static str, &'static str)]);

const READINGS: Choice =
    ("Reading", &[("words", "Words"), ("code", "Code"), ("web", "Web"), ("whole", "Whole")]);
const ACCENTS: Choice = ("Accents", &[("fold", "Fold"), ("keep", "Keep")]);
const FORMS: Choice = ("Forms", &[("ranked", "Ranked"), ("same", "Same")]);

const OF_FIELDS: &str = "key, skip, name, kind, language, weight, from, gap, first_words, indexed, kept, languages, language_from, detect, detector, reading, \
                         symbols, tokeniser, elide, fold, accents, steps, compounds, stem, stemmer, forms, stop, written";
const OF_STRUCTS: &str = "language, table, packing, crate";

/// What a field is.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Role {
    Key,
    Column,
    Skipped,
}

/// One thing that is said of how text is read: the name, and the value as the library has it.
pub(crate) struct Setting {
    name: Ident,
    value: TokenStream,
    /// The type in the library's module on text that the value is of, if it is of one.
    of: Option<Ident>,
    /// Codes of languages, which are checked where they stand.
    languages: Vec<LitStr>,
}

impl Setting {
    /// The statement that sets it.
    pub fn write(&self, library: &Path) -> TokenStream {
        let Self { name, value, of, languages } = self;
        let checked = languages.iter().map(|language| known(language, library));
        let value = match of {
            Some(of) => quote!(::core::option::Option::Some(#library::text::#of::#value)),
            None if name == "language" => quote!(#library::Language::new(#value).ok()),
            None if name == "languages" => {
                quote!(#value.into_iter().filter_map(|code| #library::Language::new(code).ok()).collect())
            }
            None => value.clone(),
        };
        quote!(#(#checked)* settings.#name = #value;)
    }
}

/// Fails to compile where there is no such language.
fn known(language: &LitStr, library: &Path) -> TokenStream {
    let message =
        format!("there is no language `{}` here; `Language::all` gives those there are", language.value());
    quote_spanned!(language.span()=> const _: () = assert!(#library::Language::is_known(#language), #message);)
}

/// What is said of a field.
pub(crate) struct OfField {
    pub role: Role,
    pub name: Option<LitStr>,
    /// What the library calls the kind.
    pub kind: Option<Ident>,
    pub says_language: bool,
    pub settings: Vec<Setting>,
    /// What is called on the column.
    pub calls: Vec<TokenStream>,
    /// Whether values come back with hits.
    pub kept: bool,
}

impl OfField {
    pub fn read(attributes: &[Attribute]) -> Result<Self> {
        let mut all = Self {
            role: Role::Column,
            name: None,
            kind: None,
            says_language: false,
            settings: Vec::new(),
            calls: Vec::new(),
            kept: true,
        };
        let (mut of_column, mut role) = (None, None);
        each(
            attributes,
            |name, meta| {
                match name {
                    "key" | "skip" => {
                        let this = if name == "key" { Role::Key } else { Role::Skipped };
                        all.role = this;
                        if role.replace(this).is_some() {
                            return Err(meta.error("a field is either a key or left out"));
                        }
                        return Ok(true);
                    }
                    "name" => {
                        all.name = Some(text(meta)?);
                        return Ok(true);
                    }
                    "kind" => all.kind = Some(one_of(meta, &KINDS)?),
                    "weight" => {
                        let weight = number(meta)?;
                        all.calls.push(quote!(.weighing(#weight)));
                    }
                    "from" => {
                        let (names, several) = texts(meta)?;
                        if several && names.is_empty() {
                            return Err(meta.error("it names no column; name one, or leave it out"));
                        }
                        all.calls.push(quote!(.from_columns([#(#names),*])));
                    }
                    "gap" => {
                        let gap = whole::<u16>(meta)?;
                        all.calls.push(quote!(.with_gap(#gap)));
                    }
                    "first_words" => {
                        let words = whole::<NonZero<u16>>(meta)?.get();
                        all.calls.push(quote! {
                            .of_first_words(const {
                                match ::core::num::NonZero::<u16>::new(#words) {
                                    ::core::option::Option::Some(words) => words,
                                    ::core::option::Option::None => ::core::panic!("it is at least 1"),
                                }
                            })
                        });
                    }
                    "indexed" => {
                        if !truth(meta)? {
                            all.calls.push(quote!(.not_indexed()));
                        }
                    }
                    "kept" => {
                        all.kept = truth(meta)?;
                        if !all.kept {
                            all.calls.push(quote!(.not_kept()));
                        }
                    }
                    _ => match setting(name, meta)? {
                        Some(setting) => {
                            all.says_language |= name == "language";
                            all.settings.push(setting);
                        }
                        None => return Ok(false),
                    },
                }
                of_column.get_or_insert(meta.path.span());
                Ok(true)
            },
            OF_FIELDS,
        )?;
        match of_column {
            Some(span) if all.role == Role::Key => {
                Err(Error::new(span, "this is said of columns, and the key is none"))
            }
            Some(span) if all.role == Role::Skipped => {
                Err(Error::new(span, "this is said of columns, and a field that is skipped is none"))
            }
            _ => Ok(all),
        }
    }
}

/// What is said of a struct.
pub(crate) struct OfStruct {
    /// Where the library is.
    pub library: Path,
    /// The language of columns of text that say none.
    pub language: Option<LitStr>,
    /// What is called on the schema.
    pub calls: Vec<TokenStream>,
    /// What has to hold for it to be compiled.
    pub checked: Option<TokenStream>,
    /// Where something is said that records have.
    pub of_records: Option<Span>,
}

impl OfStruct {
    pub fn read(attributes: &[Attribute]) -> Result<Self> {
        let mut all = Self {
            library: parse_quote!(::nut_cellar),
            language: None,
            calls: Vec::new(),
            checked: None,
            of_records: None,
        };
        let mut packing = None;
        each(
            attributes,
            |name, meta| {
                match name {
                    "crate" => {
                        all.library = text(meta)?.parse()?;
                        return Ok(true);
                    }
                    "language" => all.language = Some(text(meta)?),
                    "table" => {
                        let table = text(meta)?;
                        all.calls.push(quote!(.from_table(#table)));
                    }
                    "packing" => packing = Some(one_of(meta, &[("quick", "Quick"), ("small", "Small")])?),
                    _ => return Ok(false),
                }
                all.of_records.get_or_insert(meta.path.span());
                Ok(true)
            },
            OF_STRUCTS,
        )?;
        let library = &all.library;
        all.checked = all.language.as_ref().map(|language| known(language, library));
        all.calls.extend(packing.map(|packing| quote!(.packed(#library::Packing::#packing))));
        Ok(all)
    }
}

/// Gives each thing that is said to `read`, which tells whether it knows its name.
fn each(
    attributes: &[Attribute],
    mut read: impl FnMut(&str, &ParseNestedMeta<'_>) -> Result<bool>,
    names: &str,
) -> Result<()> {
    let mut said = Vec::new();
    for attribute in attributes.iter().filter(|attribute| attribute.path().is_ident("searchable")) {
        attribute.parse_nested_meta(|meta| {
            let name = meta.path.get_ident().map(Ident::to_string).unwrap_or_default();
            if said.contains(&name) {
                return Err(meta.error(format!("`{name}` is said twice")));
            }
            if !read(&name, &meta)? {
                return Err(meta.error(format!("nothing is called so here; known are {names}")));
            }
            said.push(name);
            Ok(())
        })?;
    }
    Ok(())
}

/// What is said of how text is read, if the name says that.
fn setting(name: &str, meta: &ParseNestedMeta<'_>) -> Result<Option<Setting>> {
    let (mut of, mut languages) = (None, Vec::new());
    let some = |value: TokenStream| quote!(::core::option::Option::Some(#value));
    let mut choice = |(kind, names): Choice| {
        let value = one_of(meta, names)?;
        of = Some(Ident::new(kind, value.span()));
        Ok::<_, Error>(quote!(#value))
    };
    let strings = |texts: &[LitStr]| quote!(::std::vec![#(::std::string::String::from(#texts)),*]);
    let value = match name {
        "reading" => choice(READINGS)?,
        "accents" => choice(ACCENTS)?,
        "forms" => choice(FORMS)?,
        "language" => {
            languages.push(text(meta)?);
            quote!(#(#languages)*)
        }
        "languages" => {
            languages = texts(meta)?.0;
            quote!([#(#languages),*])
        }
        "language_from" | "detector" | "stemmer" | "tokeniser" => {
            let said = text(meta)?;
            some(quote!(::std::string::String::from(#said)))
        }
        "detect" => {
            let percent = whole::<u8>(meta)?;
            some(quote!(#percent))
        }
        "symbols" => {
            let said = truth(meta)?;
            quote!(#said)
        }
        "elide" | "fold" | "stem" => {
            let said = truth(meta)?;
            some(quote!(#said))
        }
        "compounds" | "steps" | "written" => strings(&texts(meta)?.0),
        "stop" => {
            let value = meta.value()?;
            of = Some(Ident::new("StopWords", meta.path.span()));
            if value.peek(LitBool) {
                let said = value.parse::<LitBool>()?;
                quote!(OfLanguage(#said))
            } else {
                let words = strings(&list(value)?);
                quote!(Words(#words))
            }
        }
        _ => return Ok(None),
    };
    let name = Ident::new(name, meta.path.span());
    Ok(Some(Setting { name, value, of, languages }))
}

fn text(meta: &ParseNestedMeta<'_>) -> Result<LitStr> {
    meta.value()?.parse()
}

/// One text or a list of them, and whether it was a list.
fn texts(meta: &ParseNestedMeta<'_>) -> Result<(Vec<LitStr>, bool)> {
    let value = meta.value()?;
    if value.peek(token::Bracket) { Ok((list(value)?, true)) } else { Ok((vec![value.parse()?], false)) }
}

fn list(value: syn::parse::ParseStream<'_>) -> Result<Vec<LitStr>> {
    let inside;
    bracketed!(inside in value);
    Ok(Punctuated::<LitStr, Token![,]>::parse_terminated(&inside)?.into_iter().collect())
}

fn truth(meta: &ParseNestedMeta<'_>) -> Result<bool> {
    Ok(meta.value()?.parse::<LitBool>()?.value)
}

fn whole<N: std::str::FromStr>(meta: &ParseNestedMeta<'_>) -> Result<N>
where
    N::Err: std::fmt::Display,
{
    meta.value()?.parse::<LitInt>()?.base10_parse()
}

/// A number that is not negative.
fn number(meta: &ParseNestedMeta<'_>) -> Result<f32> {
    let said = meta.value()?.parse::<Lit>()?;
    let number = match &said {
        Lit::Float(number) => number.base10_parse().ok(),
        Lit::Int(number) => number.base10_parse().ok(),
        _ => None,
    };
    let number = number.filter(|number: &f32| number.is_finite() && *number >= 0.0);
    number.ok_or_else(|| Error::new_spanned(said, "this has to be a number that is not negative"))
}

/// What the library calls one of a list.
fn one_of(meta: &ParseNestedMeta<'_>, names: &[(&str, &str)]) -> Result<Ident> {
    let said = text(meta)?;
    let value = said.value();
    let found = names.iter().find(|(name, _)| *name == value);
    let found = found.ok_or_else(|| {
        let names: Vec<_> = names.iter().map(|(name, _)| *name).collect();
        Error::new(said.span(), format!("there is no `{value}` here; take one of {}", names.join(", ")))
    })?;
    Ok(Ident::new(found.1, said.span()))
}
