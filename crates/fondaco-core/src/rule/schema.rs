//! The rule file as a JSON Schema, by which editors offer words and mark mistakes
//! (<https://json-schema.org/draft/2020-12/schema>).

use serde_json::{Map, Value, json};

use super::words::{Form, RuleWord, WordOf};

/// The schema of the rule file.
pub fn schema() -> Value {
    let mut file = table(WordOf::File);
    let mut rule = table(WordOf::Rule);
    rule["required"] = json!(["title", "action"]);
    file["properties"]["rule"] = json!({
        "type": "array",
        "description": "rules, in the order in which they decide",
        "items": rule,
    });
    let mut store = table(WordOf::Store);
    store["required"] = json!(["name", "list", "name_at", "bytes_at", "remove"]);
    file["properties"]["store"] = json!({
        "type": "array",
        "description": "data stores that are managed over HTTP",
        "items": store,
    });
    file["$schema"] = "https://json-schema.org/draft/2020-12/schema".into();
    file["title"] = "Rules of Fondaco".into();
    file
}

fn table(of: WordOf) -> Value {
    let property = |word: &RuleWord| {
        let mut value = form(word.form);
        value["description"] = word.meaning.into();
        (word.name.to_owned(), value)
    };
    let properties: Map<String, Value> = RuleWord::all_of(of).map(property).collect();
    json!({ "type": "object", "additionalProperties": false, "properties": properties })
}

fn form(form: Form) -> Value {
    let text = json!({ "type": "string" });
    let count = json!({ "type": "integer", "minimum": 0 });
    match form {
        Form::Text => text,
        Form::List => json!({ "type": "array", "items": text }),
        Form::Texts | Form::Measure => {
            json!({ "anyOf": [text, count, { "type": "array", "items": { "anyOf": [text, count] } }] })
        }
        Form::Size => json!({ "anyOf": [text, count] }),
        Form::Level => json!({ "type": "string", "pattern": "^ *[0-9]+([.][0-9]+)? *%? *$" }),
        Form::Count(least) => json!({ "type": "integer", "minimum": least }),
        Form::Flag => json!({ "type": "boolean" }),
        Form::Choice(choices) => json!({ "enum": choices }),
        Form::Table(of) => table(of),
    }
}
