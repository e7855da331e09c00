//! A struct with named fields: a record.

use crate::settings::{OfField, OfStruct, Role};
use proc_macro2::{Span, TokenStream};
use quote::{quote, quote_spanned};
use std::collections::HashSet;
use syn::ext::IdentExt;
use syn::spanned::Spanned;
use syn::{DeriveInput, Error, Field, FieldsNamed, Ident, LitStr, Path, Result, Type};

/// A field, and what is said of it.
struct Told<'f> {
    field: &'f Ident,
    of: &'f Type,
    /// What the column is called.
    name: LitStr,
    said: OfField,
}

/// Where a type stands, for errors; lints take it for written by the macro, which it is.
fn at(of: &Type) -> Span {
    Span::call_site().located_at(of.span())
}

impl<'f> Told<'f> {
    fn read(field: &'f Field) -> Result<Self> {
        let said = OfField::read(&field.attrs)?;
        let Some(ident) = &field.ident else {
            return Err(Error::new_spanned(field, "a column has a name"));
        };
        let name = said.name.clone().unwrap_or_else(|| LitStr::new(&ident.unraw().to_string(), ident.span()));
        Ok(Self { field: ident, of: &field.ty, name, said })
    }

    /// The column of the schema.
    fn column(&self, whole: &OfStruct) -> TokenStream {
        let (library, of) = (&whole.library, self.of);
        let of_type = quote_spanned!(at(of)=> <#of as #library::searchable::Values>::KIND);
        let kind = self.said.kind.as_ref().map_or(of_type, |kind| quote!(#library::Kind::#kind));
        let own = self.said.settings.iter().map(|setting| setting.write(library));
        let usual = whole.language.as_ref().filter(|_| !self.said.says_language).map(|language| {
            quote! {
                if matches!(kind, #library::Kind::Text) {
                    settings.language = #library::Language::new(#language).ok();
                }
            }
        });
        let calls = &self.said.calls;
        quote! {{
            let kind = #kind;
            #[allow(unused_mut)]
            let mut settings = #library::text::TextSettings::default();
            #usual
            #(#own)*
            #library::Column::of(kind).reading(settings) #(#calls)*
        }}
    }

    /// Its type, as what names records.
    fn as_key(&self, library: &Path) -> TokenStream {
        let of = self.of;
        quote_spanned!(at(of)=> <#of as #library::searchable::KeyValue>)
    }

    /// Where an error of a key is.
    fn place(&self) -> String {
        format!("key `{}`", self.name.value())
    }

    /// The field, made of a hit.
    fn taken(&self) -> TokenStream {
        let (field, of, name) = (self.field, self.of, &self.name);
        match self.said.role {
            Role::Key => quote!(#field),
            Role::Column if self.said.kept => quote!(#field: hit.take::<#of>(#name)?),
            _ => quote_spanned!(at(of)=> #field: <#of as ::core::default::Default>::default()),
        }
    }
}

pub(crate) fn write(input: &DeriveInput, fields: &FieldsNamed) -> Result<TokenStream> {
    let whole = OfStruct::read(&input.attrs)?;
    let told = fields.named.iter().map(Told::read).collect::<Result<Vec<_>>>()?;
    let mut names = HashSet::new();
    for told in told.iter().filter(|told| told.said.role != Role::Skipped) {
        if !names.insert(told.name.value()) {
            return Err(Error::new(told.name.span(), "another field has this name"));
        }
    }
    let of_role = |role: Role| told.iter().filter(move |told| told.said.role == role);
    let keys: Vec<_> = of_role(Role::Key).collect();
    let Some((first, others)) = keys.split_first() else {
        return Err(Error::new(
            input.ident.span(),
            "no field names a record; say `#[searchable(key)]` of the one that does",
        ));
    };

    let library = &whole.library;
    let (first, others) = (&first.name, others.iter().map(|told| &told.name));
    let column_names = of_role(Role::Column).map(|told| &told.name);
    let columns = of_role(Role::Column).map(|told| told.column(&whole));
    let (calls, checked) = (&whole.calls, &whole.checked);

    let put = of_role(Role::Column).map(|told| {
        let (field, name) = (told.field, &told.name);
        quote!(record.put(#name, #field)?;)
    });
    let given = told.iter().map(|told| {
        let field = told.field;
        if told.said.role == Role::Skipped { quote!(#field: _) } else { quote!(#field) }
    });
    let key_fields: Vec<_> = keys.iter().map(|told| told.field).collect();
    let into_keys = keys.iter().map(|told| {
        let (field, at) = (told.field, told.place());
        let value = told.as_key(library);
        quote!(#value::into_key(#field).map_err(|error| error.at(#at))?)
    });
    let from_keys = keys.iter().map(|told| {
        let (field, at) = (told.field, told.place());
        let value = told.as_key(library);
        quote!(let #field = #value::from_key(#field).map_err(|error| error.at(#at))?;)
    });
    let count = keys.len();
    let (into_key, parts) = if let [only] = *key_fields {
        (quote!(#(#into_keys)*), quote!(let #only: #library::Key = hit.take_key()?;))
    } else {
        (
            quote!(#library::Key::Several(::std::vec![#(#into_keys),*])),
            quote!(let [#(#key_fields),*] = hit.take_key::<[#library::Key; #count]>()?;),
        )
    };
    let taken = told.iter().map(Told::taken);

    let name = &input.ident;
    let (generics, arguments, bounds) = input.generics.split_for_impl();
    Ok(quote! {
        #[automatically_derived]
        impl #generics #library::Searchable for #name #arguments #bounds {
            fn schema() -> #library::Schema {
                #checked
                #library::Schema::new(#first) #(.with_key(#others))* #(.with(#column_names, #columns))* #(#calls)*
            }

            fn into_record(self) -> #library::Result<#library::Record> {
                let Self { #(#given),* } = self;
                #[allow(unused_mut)]
                let mut record = #library::Record::new(#into_key);
                #(#put)*
                Ok(record)
            }

            fn from_hit(mut hit: #library::Hit) -> #library::Result<Self> {
                #parts
                #(#from_keys)*
                Ok(Self { #(#taken),* })
            }
        }
    })
}
