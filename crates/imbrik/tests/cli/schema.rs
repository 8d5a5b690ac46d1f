//! Validates JSON by the part of JSON Schema (2020-12) that our own schema uses. An unknown keyword fails, so that no rule
//! is skipped.

use serde_json::Value;

/// Checks `value` by `schema`, a part of `root`. Returns the first rule that does not hold.
pub(crate) fn check(root: &Value, schema: &Value, value: &Value) -> Result<(), String> {
    let rules = match schema {
        Value::Bool(true) => return Ok(()),
        Value::Object(rules) => rules,
        _ => return Err(format!("nothing matches {schema}")),
    };
    for (name, rule) in rules {
        let holds = match name.as_str() {
            "$schema" | "title" | "description" | "$defs" | "format" | "default" => true,
            "additionalProperties" | "unevaluatedProperties" => true,
            "$ref" => {
                let pointer = rule.as_str().and_then(|text| text.strip_prefix('#')).unwrap();
                check(root, root.pointer(pointer).expect("a definition"), value)?;
                true
            }
            "type" => match rule {
                Value::Array(names) => names.iter().any(|name| is_of_type(name, value)),
                name => is_of_type(name, value),
            },
            "enum" => rule.as_array().unwrap().contains(value),
            "const" => rule == value,
            "allOf" => {
                rule.as_array().unwrap().iter().try_for_each(|one| check(root, one, value))?;
                true
            }
            "anyOf" => matching(root, rule, value) > 0,
            "oneOf" => matching(root, rule, value) == 1,
            "minimum" => value.as_f64().is_none_or(|number| number >= rule.as_f64().unwrap()),
            "maximum" => value.as_f64().is_none_or(|number| number <= rule.as_f64().unwrap()),
            "minItems" => {
                value.as_array().is_none_or(|all| all.len() as u64 >= rule.as_u64().unwrap())
            }
            "maxItems" => {
                value.as_array().is_none_or(|all| all.len() as u64 <= rule.as_u64().unwrap())
            }
            "required" => {
                let names = rule.as_array().unwrap().iter().map(|name| name.as_str().unwrap());
                value
                    .as_object()
                    .is_none_or(|object| names.clone().all(|name| object.contains_key(name)))
            }
            "properties" => {
                for (name, rule) in rule.as_object().unwrap() {
                    if let Some(value) = value.get(name) {
                        check(root, rule, value).map_err(|wrong| format!("{name}: {wrong}"))?;
                    }
                }
                true
            }
            "items" | "prefixItems" => {
                for (index, value) in value.as_array().into_iter().flatten().enumerate() {
                    let rule = if name == "items" { Some(rule) } else { rule.get(index) };
                    if let Some(rule) = rule {
                        check(root, rule, value).map_err(|wrong| format!("[{index}]: {wrong}"))?;
                    }
                }
                true
            }
            _ => panic!("the schema has the unknown rule {name}"),
        };
        if !holds {
            return Err(format!("{name}: {rule} does not hold for {value}"));
        }
    }
    no_unknown_properties(root, schema, value)
}

fn matching(root: &Value, rules: &Value, value: &Value) -> usize {
    rules.as_array().unwrap().iter().filter(|rule| check(root, rule, value).is_ok()).count()
}

fn is_of_type(name: &Value, value: &Value) -> bool {
    match name.as_str().unwrap() {
        "null" => value.is_null(),
        "boolean" => value.is_boolean(),
        "string" => value.is_string(),
        "array" => value.is_array(),
        "object" => value.is_object(),
        "number" => value.is_number(),
        "integer" => value.is_i64() || value.is_u64(),
        name => panic!("the schema has the unknown type {name}"),
    }
}

/// The properties of an object that `schema` describes, also by reference.
fn known(root: &Value, schema: &Value, value: &Value, names: &mut Vec<String>) {
    let properties = schema.get("properties").and_then(Value::as_object);
    names.extend(properties.into_iter().flat_map(|all| all.keys().cloned()));
    if let Some(pointer) = schema.get("$ref").and_then(Value::as_str) {
        known(root, root.pointer(&pointer[1..]).expect("a definition"), value, names);
    }
    for list in ["allOf", "anyOf", "oneOf"] {
        for one in schema.get(list).and_then(Value::as_array).into_iter().flatten() {
            if check(root, one, value).is_ok() {
                known(root, one, value, names);
            }
        }
    }
}

fn no_unknown_properties(root: &Value, schema: &Value, value: &Value) -> Result<(), String> {
    let is_closed = |rule: &str| schema.get(rule) == Some(&Value::Bool(false));
    let mut names = Vec::new();
    if is_closed("unevaluatedProperties") {
        known(root, schema, value, &mut names);
    } else if is_closed("additionalProperties") {
        let properties = schema.get("properties").and_then(Value::as_object);
        names.extend(properties.into_iter().flat_map(|all| all.keys().cloned()));
    } else {
        return Ok(());
    }
    let unknown = value.as_object().into_iter().flat_map(|all| all.keys());
    match unknown.into_iter().find(|name| !names.contains(name)) {
        Some(name) => Err(format!("{name} is not in the schema")),
        None => Ok(()),
    }
}

#[test]
fn schema_rules_are_enforced() {
    let schema = serde_json::json!({
        "$defs": { "size": { "type": "integer", "minimum": 0 } },
        "oneOf": [
            { "type": "object", "properties": { "size": { "$ref": "#/$defs/size" } },
              "required": ["size"], "additionalProperties": false },
            { "type": "array", "items": { "enum": ["a", "b"] }, "maxItems": 2 },
        ],
    });
    let is_valid = |value: Value| check(&schema, &schema, &value).is_ok();
    assert!(is_valid(serde_json::json!({ "size": 1 })) && is_valid(serde_json::json!(["a", "b"])));
    for wrong in [
        serde_json::json!({}),
        serde_json::json!({ "size": -1 }),
        serde_json::json!({ "size": "1" }),
        serde_json::json!({ "size": 1, "more": 1 }),
        serde_json::json!(["c"]),
        serde_json::json!(["a", "a", "a"]),
        serde_json::json!(1),
    ] {
        assert!(!is_valid(wrong.clone()), "{wrong}");
    }
}
