//! Schemas as TOML text.

use super::Schema;
use crate::error::{Error, ErrorKind, Result};

impl Schema {
    /// Reads a schema from TOML.
    ///
    /// ```
    /// use nut_cellar_core::Schema;
    ///
    /// let schema = Schema::from_toml(r#"
    ///     key = "id"
    ///
    ///     [column.title]
    ///     kind = "text"
    ///     language = "en"
    ///     weight = 4.0
    /// "#).unwrap();
    /// assert_eq!(schema.column("title").unwrap().weight(), 4.0);
    ///
    /// let error = Schema::from_toml("key = \"id\"\n[column.title]\nkind = \"prose\"").unwrap_err();
    /// assert!(error.to_string().starts_with("line 3: "), "{error}");
    /// ```
    ///
    /// # Errors
    /// [`ErrorKind::BadSchema`], with the line, if it is not TOML or not a schema.
    pub fn from_toml(text: &str) -> Result<Self> {
        toml::from_str(text).map_err(|error| {
            let line = error.span().map_or(1, |span| {
                1 + text.as_bytes().iter().take(span.start).filter(|&&byte| byte == b'\n').count()
            });
            let said = error.message().replace('\n', " ");
            Error::new(ErrorKind::BadSchema, format!("line {line}: {}", said.trim()))
        })
    }

    /// The schema as TOML, in a form that [`Schema::from_toml`] reads back to the same schema.
    #[expect(clippy::missing_panics_doc, reason = "nothing in a schema can fail to be written as TOML")]
    pub fn to_toml(&self) -> String {
        toml::to_string(self).expect("a schema is made of tables, texts, numbers and truth values")
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::schema::{Column, Kind, Packing};

    #[test]
    fn a_schema_comes_back_with_its_columns_in_order() {
        let schema = Schema::new("no")
            .with("zeta", Column::text("en").weighing(2.5))
            .with("alpha", Column::text("none").not_kept())
            .with("finder", Column::text("none").from_columns(["first", "last"]))
            .with("label", Column::of(Kind::Text).from_columns(["label", "tag"]).not_indexed())
            .with("found_on", Column::of(Kind::Date))
            .packed(if cfg!(feature = "zstd") { Packing::Small } else { Packing::Quick })
            .from_table("items");
        let read = Schema::from_toml(&schema.to_toml()).unwrap();
        assert_eq!(read, schema);
        let names: Vec<_> = read.columns().map(|(name, _)| name.to_owned()).collect();
        assert_eq!(names, ["zeta", "alpha", "finder", "label", "found_on"]);
        let json = serde_json::to_string(&schema).unwrap();
        assert_eq!(serde_json::from_str::<Schema>(&json).unwrap(), schema);
    }

    #[test]
    fn a_column_made_of_several_runs_on_unless_a_cellar_has_kept_it_without_saying_so() {
        let text = "key = \"id\"\n[column.finder]\nkind = \"text\"\nfrom = [\"first\", \"last\"]\n[column.claims]\nkind = \
                    \"text\"\nfrom = [\"claims.note\"]\n";
        let gaps = |schema: &Schema| ["finder", "claims"].map(|name| schema.column(name).unwrap().gap());
        let schema = Schema::from_toml(text).unwrap();
        assert_eq!(gaps(&schema), [0, 16]);
        assert_eq!(
            gaps(&Schema::from_toml(&text.replace("[column.c", "gap = 3\n[column.c")).unwrap()),
            [3, 16]
        );
        let kept = serde_json::to_string(&schema).unwrap();
        assert_eq!(Schema::from_kept(kept.as_bytes()).unwrap(), schema);
        let before = kept.replace(",\"gap\":0", "").replace(",\"edition\":2", "");
        assert_ne!(before, kept);
        let kept = Schema::from_kept(before.as_bytes()).unwrap();
        assert_eq!(gaps(&kept), [16, 16]);
        assert_eq!(kept.changes_to(&schema), [crate::schema::Change::Altered("finder".into())]);
        assert_eq!(Schema::from_kept(&serde_json::to_vec(&kept).unwrap()).unwrap(), kept);
    }

    #[test]
    fn what_is_wrong_is_said_with_its_line() {
        let head = "key = \"id\"\n[column.title]\nkind = \"text\"\n";
        for (text, line, says) in [
            ("key = ", 1, ""),
            ("key = \"id\"\n[column.title]\nkind = \"text\"\nwieght = 4\n", 4, "wieght"),
            (&format!("{head}language = \"xx\"\n"), 4, "xx"),
            (&format!("{head}\n[column.gone]\nkind = \"boolean\"\nlanguage = \"en\"\n"), 5, "boolean"),
            (
                &format!("{head}\n[column.when]\nkind = \"date\"\nwritten = [\"day.month\"]\n"),
                5,
                "`language` as well",
            ),
            (&format!("{head}written = [\"day.month\"]\n"), 2, "`written`"),
            (&format!("{head}reading = \"code\"\nsymbols = true\n"), 2, "`symbols`"),
            (&format!("{head}languages = [\"de\"]\n"), 2, "`detect`"),
            (&format!("{head}languages = [\"de\"]\ndetect = 101\n"), 2, "`detect`"),
            (&format!("{head}\n[column.when]\nkind = \"date\"\nweight = 2.0\n"), 5, "weight"),
            (&format!("{head}weight = -1\n"), 2, "-1"),
            (&format!("{head}\n[column.n]\nkind = \"date\"\nlanguage = \"en\"\ngap = 0\n"), 5, "`gap`"),
            ("key = \"id\"\n[column.n]\nkind = \"integer\"\n", 1, "text"),
            ("key = \"\"\n[column.n]\nkind = \"text\"\n", 1, "key"),
        ] {
            let error = Schema::from_toml(text).unwrap_err();
            assert_eq!(error.kind(), ErrorKind::BadSchema);
            let shown = error.to_string();
            assert!(shown.starts_with(&format!("line {line}: ")) && shown.contains(says), "{shown}");
            assert!(!shown.contains('\n'));
        }
    }
}
