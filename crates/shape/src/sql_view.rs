//! A plan as one statement of SQL: projections and filters put into each other.

use std::collections::HashMap;
use std::ops::ControlFlow;

use sqlparser::ast::{Expr as Sql, visit_expressions_mut};

use crate::lookups::called;
use crate::parse::name;
use crate::plan::Plan;
use crate::stages::Kind;

/// Characters up to which steps are put into one statement.
const LONGEST: usize = 12_000;

/// Puts what columns are made of in their place.
fn replaced(sql: &Sql, columns: &HashMap<String, Sql>) -> Sql {
    let mut sql = sql.clone();
    let _: ControlFlow<()> = visit_expressions_mut(&mut sql, |expr| {
        let wanted = match expr {
            Sql::Identifier(ident) => Some(ident),
            Sql::CompoundIdentifier(parts) if parts.len() == 2 && parts[0].value.eq_ignore_ascii_case("input") => {
                parts.last_mut()
            }
            _ => None,
        };
        if let Some(ident) = wanted {
            let named = if ident.quote_style.is_some() { ident.value.clone() } else { ident.value.to_lowercase() };
            if let Some(made) = columns.get(&named) {
                let simple = matches!(
                    made,
                    Sql::Identifier(_) | Sql::CompoundIdentifier(_) | Sql::Value(_) | Sql::Function(_) | Sql::Nested(_)
                );
                *expr = if simple { made.clone() } else { Sql::Nested(Box::new(made.clone())) };
            }
        }
        ControlFlow::Continue(())
    });
    sql
}

/// The statement that a plan comes to. Lookups are joins; what SQL's rows cannot say (where rows go, repeats) is said in comments.
/// None if it would be too long: then the steps say it better.
#[must_use]
pub fn statement(plan: &Plan) -> Option<String> {
    let ident = |column: &str| {
        let plain = name(column) == column;
        Sql::Identifier(if plain {
            sqlparser::ast::Ident::new(column)
        } else {
            sqlparser::ast::Ident::with_quote('"', column)
        })
    };
    let first = plan.table.columns.iter().map(|c| (c.name.clone(), ident(&c.name)));
    let mut order: Vec<String> = plan.table.columns.iter().map(|c| c.name.clone()).collect();
    let mut columns: HashMap<String, Sql> = first.collect();
    let (mut conditions, mut joins, mut notes) = (Vec::new(), Vec::new(), Vec::new());
    for stage in &plan.stages {
        match &stage.kind {
            Kind::Project(_) => {
                let items = stage.items.as_deref().unwrap_or_default();
                let made: Vec<(String, Sql)> = items.iter().map(|(n, sql)| (n.clone(), replaced(sql, &columns))).collect();
                if made.iter().map(|(_, sql)| sql.to_string().len()).sum::<usize>() > LONGEST {
                    return None;
                }
                order = made.iter().map(|(n, _)| n.clone()).collect();
                columns = made.into_iter().collect();
            }
            Kind::Filter(..) => conditions.extend(stage.only.as_ref().map(|sql| replaced(sql, &columns))),
            Kind::Lookup(lookup) => {
                let alias = format!("reference_{}", joins.len() + 1);
                let added = &stage.output.fields[stage.input.fields.len()..];
                for field in added {
                    let parts =
                        vec![sqlparser::ast::Ident::new(alias.as_str()), sqlparser::ast::Ident::new(field.name.as_str())];
                    columns.insert(field.name.clone(), Sql::CompoundIdentifier(parts));
                    order.push(field.name.clone());
                }
                let compared: Vec<String> = lookup.reads.iter().map(|&c| stage.input.fields[c].name.clone()).collect();
                joins.push(format!(
                    "LEFT JOIN {} AS {alias} ON its key = ({})",
                    name(called(&lookup.topic)),
                    compared.join(", ")
                ));
            }
            Kind::Route(ways) => notes.push(format!("-- rows go {} ways", ways.len())),
            Kind::Repeats(_) => notes.push("-- without repeats".to_owned()),
        }
    }
    let item = |column: &String| match columns.get(column) {
        Some(Sql::Identifier(ident)) if ident.value == *column => ident.to_string(),
        Some(sql) => format!("{sql} AS {}", name(column)),
        None => name(column),
    };
    let mut out = format!("SELECT {}\nFROM input", order.iter().map(item).collect::<Vec<_>>().join(",\n       "));
    for join in joins {
        out.push('\n');
        out.push_str(&join);
    }
    if !conditions.is_empty() {
        let joined: Vec<String> =
            conditions.iter().map(|c| if conditions.len() > 1 { format!("({c})") } else { c.to_string() }).collect();
        out.push_str("\nWHERE ");
        out.push_str(&joined.join("\n  AND "));
    }
    for note in notes {
        out.push('\n');
        out.push_str(&note);
    }
    (out.len() <= LONGEST).then_some(out)
}
