//! A struct with one unnamed field: a value of a column, and of a key, as what is in it is.

use crate::settings::OfStruct;
use proc_macro2::TokenStream;
use quote::quote;
use syn::{DeriveInput, Error, Field, Result};

pub(crate) fn write(input: &DeriveInput, field: &Field) -> Result<TokenStream> {
    let said = OfStruct::read(&input.attrs)?;
    if let Some(span) = said.of_records {
        return Err(Error::new(span, "this is said of records, and a newtype is a value"));
    }
    if let Some(attribute) = field.attrs.iter().find(|attribute| attribute.path().is_ident("searchable")) {
        return Err(Error::new_spanned(
            attribute,
            "what is in a newtype says nothing; the field that has its type does",
        ));
    }
    let (library, name, inner) = (&said.library, &input.ident, &field.ty);
    let (generics, arguments, bounds) = input.generics.split_for_impl();
    let bounds = bounds.map(|bounds| &bounds.predicates).into_iter().flatten().map(|bound| quote!(#bound,));
    let bounds = quote!(#(#bounds)*);
    // Not every type is both. Of what holds for any lifetime, that it does not hold is no error, but leaves the trait out.
    Ok(quote! {
        #[automatically_derived]
        impl #generics #library::searchable::SingleValue for #name #arguments
        where
            #bounds
            for<'any> #inner: #library::searchable::SingleValue,
        {
            const KIND: #library::Kind = <#inner as #library::searchable::SingleValue>::KIND;

            fn into_value(self) -> #library::Result<#library::Value> {
                #library::searchable::SingleValue::into_value(self.0)
            }

            fn from_value(value: #library::Value) -> #library::Result<Self> {
                #library::searchable::SingleValue::from_value(value).map(Self)
            }
        }

        #[automatically_derived]
        impl #generics #library::searchable::KeyValue for #name #arguments
        where
            #bounds
            for<'any> #inner: #library::searchable::KeyValue,
        {
            fn into_key(self) -> #library::Result<#library::Key> {
                #library::searchable::KeyValue::into_key(self.0)
            }

            fn from_key(key: #library::Key) -> #library::Result<Self> {
                #library::searchable::KeyValue::from_key(key).map(Self)
            }
        }
    })
}
