//! The schema of all objects, and the document for people, both generated from the types.

use super::*;
use schemars::{JsonSchema, SchemaGenerator, generate::SchemaSettings};
use serde_json::json;
use std::{env, fmt::Write, fs, path::PathBuf};

/// Every object that is printed: the commands and the result that go with it.
struct Object {
    commands: &'static [&'static str],
    results: &'static [&'static str],
    schema: Value,
    name: String,
}

const ALL: &[&str] = &[
    "imbrik",
    "cards",
    "show",
    "save",
    "check",
    "restore",
    "clone",
    "fit",
    "mend",
    "weigh",
    "repack",
    "files list",
    "files get",
    "files diff",
    "files carry",
    "files folder",
    "files put",
    "files remove",
    "files rename",
    "shelf",
    "demo",
];

fn one<T: JsonSchema>(
    generator: &mut SchemaGenerator,
    commands: &'static [&'static str],
    results: &'static [&'static str],
) -> Object {
    let schema = generator.subschema_for::<T>().to_value();
    Object { commands, results, schema, name: T::schema_name().into_owned() }
}

fn objects(generator: &mut SchemaGenerator) -> Vec<Object> {
    let g = generator;
    vec![
        one::<Failed>(g, ALL, &["failed"]),
        one::<Cards>(g, &["cards"], &["done"]),
        one::<Shown>(g, &["show"], &["done"]),
        one::<PrivateShown>(g, &["show"], &["private"]),
        one::<SavePlan>(g, &["save"], &["plan"]),
        one::<Saved>(g, &["save"], &["done"]),
        one::<Checked>(g, &["check"], &["done", "differs"]),
        one::<FitPlan>(g, &["fit"], &["plan"]),
        one::<Fitted>(g, &["fit"], &["done"]),
        one::<Mended>(g, &["mend"], &["done"]),
        one::<NothingToMend>(g, &["mend"], &["complete"]),
        one::<Weighed>(g, &["weigh"], &["done", "differs"]),
        one::<WipePlan>(g, &["wipe"], &["plan"]),
        one::<Wiped>(g, &["wipe"], &["done"]),
        one::<Repacked>(g, &["repack"], &["done"]),
        one::<ListedFile>(g, &["files list"], &["entry"]),
        one::<FolderSize>(g, &["files list"], &["folder"]),
        one::<FilesListed>(g, &["files list"], &["done"]),
        one::<FilesGot>(g, &["files get"], &["done", "differs"]),
        one::<FilesChanged>(
            g,
            &["files put", "files carry", "files remove", "files rename", "files folder"],
            &["done"],
        ),
        one::<FileDifference>(g, &["files diff"], &["difference"]),
        one::<OnlyThere>(g, &["files diff"], &["partition"]),
        one::<FilesCompared>(g, &["files diff"], &["done", "differs"]),
        one::<ShelfListed>(g, &["shelf"], &["list"]),
        one::<ShelfRules>(g, &["shelf"], &["rules"]),
        one::<ShelfThinned>(g, &["shelf"], &["plan", "thinned"]),
        one::<ShelfChecked>(g, &["shelf"], &["checked"]),
        one::<ShelfDue>(g, &["shelf"], &["due"]),
        one::<ShelfNightly>(g, &["shelf"], &["printed", "installed"]),
        one::<ShelfMarked>(g, &["shelf"], &["marked"]),
        one::<WritePlan>(g, &["restore", "clone"], &["plan"]),
        one::<WrittenCard>(g, &["restore", "clone"], &["done"]),
    ]
}

fn generator() -> SchemaGenerator {
    SchemaSettings::draft2020_12().for_serialize().into_generator()
}

/// The schema that any line of standard output with `--json` obeys.
fn schema() -> Value {
    let mut generator = generator();
    let variants: Vec<_> = objects(&mut generator)
        .into_iter()
        .map(|object| {
            json!({
                "title": format!("{}: {}", listed(object.commands), listed(object.results)),
                "type": "object",
                "properties": {
                    "imbrik": { "const": VERSION },
                    "command": { "enum": object.commands },
                    "result": { "enum": object.results },
                },
                "required": ["imbrik", "command", "result"],
                "allOf": [object.schema],
                "unevaluatedProperties": false,
            })
        })
        .collect();
    json!({
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "A line that imbrik --json prints",
        "oneOf": variants,
        "$defs": generator.take_definitions(true),
    })
}

fn listed(words: &[&str]) -> String {
    if words == ALL { "any command".to_owned() } else { words.join(", ") }
}

const HEAD: &str = "\
# JSON

With `--json`, every line on standard output is one JSON object. Progress, notes and failures for
people stay on standard error. This document and [json.schema.json](json.schema.json) are generated from
the program's types; a test compares them, and every output of the tests with the schema.

Every object begins with

| field | what it is |
|---|---|
| `imbrik` | 1, the version of all objects described here; fields may be added under the same version |
| `command` | which command printed it; `imbrik` when none was understood |
| `result` | `done`, `plan`, `differs` or `failed` |

Sizes, offsets and spans are bytes; a span is `[first byte, bytes]`; times are seconds. Paths of
files are absolute; cards are named as they are typed. With several cards, each has objects of its
own; when some of them failed, a `failed` for all of them ends it.
";

fn document() -> String {
    let mut generator = generator();
    let objects = objects(&mut generator);
    let definitions = generator.take_definitions(true);
    let mut text = HEAD.to_owned();
    let mut shown = Vec::new();
    for object in &objects {
        let _ =
            write!(text, "\n## {}: `{}`\n\n", listed(object.commands), object.results.join("`, `"));
        describe(&mut text, &definitions[&object.name]);
        shown.push(object.name.clone());
    }
    text += "\n# What is in them\n";
    for (name, definition) in &definitions {
        if !shown.contains(name) {
            let _ = write!(text, "\n## {name}\n\n");
            describe(&mut text, definition);
        }
    }
    text
}

/// Describes a type and its fields.
fn describe(text: &mut String, definition: &Value) {
    if let Some(what) = definition["description"].as_str() {
        let _ = write!(text, "{}\n\n", flat(what));
    }
    if let Some(words) = definition["oneOf"].as_array() {
        for word in words {
            let value = word["const"].as_str().or(word["enum"][0].as_str()).unwrap_or("?");
            let what = word["description"].as_str().unwrap_or_default();
            let _ = writeln!(text, "- `{value}`: {}", flat(what));
        }
        return;
    }
    if let Some(words) = definition["enum"].as_array() {
        let words: Vec<_> = words.iter().filter_map(Value::as_str).collect();
        let _ = writeln!(text, "One of `{}`.", words.join("`, `"));
        return;
    }
    if let Some(kinds) = definition["anyOf"].as_array() {
        for kind in kinds {
            let fields = kind["properties"].as_object().map(|fields| {
                fields.keys().map(|name| format!("`{name}`")).collect::<Vec<_>>().join(", ")
            });
            let what = kind["description"].as_str().unwrap_or_default();
            let _ = writeln!(text, "- {} {}", fields.unwrap_or_default(), flat(what));
        }
        return;
    }
    text.push_str("| field | type | what it is |\n|---|---|---|\n");
    let fields = definition["properties"].as_object();
    for (name, field) in fields.into_iter().flatten() {
        let what = flat(field["description"].as_str().unwrap_or_default());
        let _ = writeln!(text, "| `{name}` | {} | {what} |", type_of(field));
    }
}

fn flat(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

/// The name of a type in the documentation.
fn type_of(field: &Value) -> String {
    if let Some(name) = field["$ref"].as_str() {
        let name = name.rsplit('/').next().unwrap_or_default();
        return format!("[{name}](#{})", name.to_lowercase());
    }
    if let Some(kinds) = field["anyOf"].as_array() {
        return kinds.iter().map(type_of).collect::<Vec<_>>().join(" or ");
    }
    let names: Vec<&str> = match &field["type"] {
        Value::String(name) => vec![name],
        Value::Array(names) => names.iter().filter_map(Value::as_str).collect(),
        _ => return String::new(),
    };
    let names = names.iter().map(|name| match *name {
        "array" if field["items"].is_object() => format!("list of {}", type_of(&field["items"])),
        "array" => "list".to_owned(),
        "object" => "object".to_owned(),
        other => other.to_owned(),
    });
    names.collect::<Vec<_>>().join(" or ")
}

/// Fails if a field was added, renamed or described differently without regenerating the documents:
/// `IMBRIK_WRITE_DOCS=1 cargo test -p imbrik --bins`.
#[test]
fn json_documents_match_the_types() {
    let docs = PathBuf::from(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs"));
    let schema = serde_json::to_string_pretty(&schema()).unwrap() + "\n";
    for (name, text) in [("json.schema.json", schema), ("json.md", document())] {
        let path = docs.join(name);
        if env::var_os("IMBRIK_WRITE_DOCS").is_some() {
            fs::write(&path, &text).unwrap();
        }
        assert!(fs::read_to_string(&path).unwrap_or_default() == text, "{name} is out of date");
    }
}
