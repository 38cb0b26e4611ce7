//! What a value of kampf.toml has to be: how it is read, and its JSON Schema.

use std::collections::BTreeMap;

use schemars::{JsonSchema, Schema, SchemaGenerator};

use super::reader::{FileValue, Item, Reader, span};
use crate::problem::Problem;
use crate::project::written::Written;

/// A table of kampf.toml with keys of ours: reading, JSON Schema and the list of its keys follow from one definition.
macro_rules! table {
    ($(#[$doc:meta])* $name:ident { $($(#[$field_doc:meta])* $key:literal $field:ident: $form:ty),+ $(,)? }) => {
        $(#[$doc])*
        #[derive(Clone, Debug, Default, schemars::JsonSchema)]
        #[schemars(deny_unknown_fields)]
        pub(crate) struct $name {
            $($(#[$field_doc])* #[schemars(rename = $key)] pub(crate) $field: Option<$form>,)+
        }

        impl $name {
            /// Its keys.
            #[allow(dead_code, reason = "of some tables nobody needs them")]
            pub(crate) const KEYS: &'static [&'static str] = &[$($key),+];

            /// Reads it, and refuses what is none of its keys.
            pub(crate) fn of(mut table: $crate::project::file::reader::Reader<'_>) -> Result<$name, $crate::problem::Problem> {
                let read = $name { $($field: table.value::<$form>($key)?,)+ };
                table.finish()?;
                Ok(read)
            }
        }

        impl $crate::project::file::reader::FileValue for $name {
            fn read<'a>(
                table: &$crate::project::file::reader::Reader<'a>,
                item: $crate::project::file::reader::Item<'a>,
            ) -> Result<$name, $crate::problem::Problem> {
                $name::of(table.inner(item)?)
            }
        }
    };
}

pub(super) use table;

/// Gives a type the JSON Schema of another, or one that is written out.
macro_rules! schema {
    ($name:ty, like $like:ty) => {
        impl schemars::JsonSchema for $name {
            fn schema_name() -> std::borrow::Cow<'static, str> {
                <$like as schemars::JsonSchema>::schema_name()
            }

            fn json_schema(generator: &mut schemars::SchemaGenerator) -> schemars::Schema {
                <$like as schemars::JsonSchema>::json_schema(generator)
            }

            fn inline_schema() -> bool {
                true
            }
        }
    };
    ($name:ty, $($schema:tt)+) => {
        impl schemars::JsonSchema for $name {
            fn schema_name() -> std::borrow::Cow<'static, str> {
                stringify!($name).into()
            }

            fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
                schemars::json_schema!($($schema)+)
            }

            fn inline_schema() -> bool {
                true
            }
        }
    };
}

pub(super) use schema;

schema!(Written, like String);

impl FileValue for Written {
    fn read<'a>(table: &Reader<'a>, item: Item<'a>) -> Result<Written, Problem> {
        table.text(item)
    }
}

impl FileValue for Vec<Written> {
    fn read<'a>(table: &Reader<'a>, item: Item<'a>) -> Result<Vec<Written>, Problem> {
        table.texts(item)
    }
}

impl FileValue for bool {
    fn read<'a>(table: &Reader<'a>, (name, value): Item<'a>) -> Result<bool, Problem> {
        value.get_ref().as_bool().ok_or_else(|| table.wrong_kind(name.get_ref(), value, "true or false"))
    }
}

/// One value, or a list of several.
#[derive(Clone, Debug)]
pub(crate) struct OneOrMore<T>(pub(crate) Vec<T>);

impl<T: JsonSchema> JsonSchema for OneOrMore<T> {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        format!("OneOrMore_of_{}", T::schema_name()).into()
    }

    fn json_schema(generator: &mut SchemaGenerator) -> Schema {
        /// As it may be written.
        #[derive(JsonSchema)]
        #[schemars(untagged)]
        #[allow(dead_code, reason = "only its form is of use")]
        enum Either<T> {
            One(T),
            More(Vec<T>),
        }
        Either::<T>::json_schema(generator)
    }
}

impl<T: FileValue> FileValue for OneOrMore<T> {
    fn read<'a>(table: &Reader<'a>, (name, value): Item<'a>) -> Result<OneOrMore<T>, Problem> {
        match value.get_ref().as_array() {
            None => T::read(table, (name, value)).map(|one| OneOrMore(vec![one])),
            Some(list) => list.iter().map(|one| T::read(table, (name, one))).collect::<Result<_, _>>().map(OneOrMore),
        }
    }
}

/// A table whose keys are names of the user's, in the order of the file.
#[derive(Clone, Debug)]
pub(crate) struct Named<T>(pub(crate) Vec<(Written, T)>);

impl<T: JsonSchema> JsonSchema for Named<T> {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        BTreeMap::<String, T>::schema_name()
    }

    fn json_schema(generator: &mut SchemaGenerator) -> Schema {
        BTreeMap::<String, T>::json_schema(generator)
    }

    fn inline_schema() -> bool {
        true
    }
}

impl<T: FileValue> FileValue for Named<T> {
    fn read<'a>(table: &Reader<'a>, item: Item<'a>) -> Result<Named<T>, Problem> {
        let inner = table.inner(item)?;
        let name = |key: &toml::Spanned<toml::de::DeString<'_>>| Written::new(inner.text_of_file(), span(key.span()), key.get_ref());
        inner.items().map(|item| Ok((name(item.0), T::read(&inner, item)?))).collect::<Result<_, _>>().map(Named)
    }
}

/// The entries of a table of names, none where it is not there.
pub(crate) fn entries<T>(named: Option<Named<T>>) -> Vec<(Written, T)> {
    named.map_or_else(Vec::new, |named| named.0)
}

/// The values of a list, none where it is not there.
pub(crate) fn all<T>(some: Option<OneOrMore<T>>) -> Vec<T> {
    some.map_or_else(Vec::new, |some| some.0)
}
