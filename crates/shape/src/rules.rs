//! What table rules come to for one table: ordinary pieces, like those of steps.

use gonvel_core::shape::{Renaming, Rule, Step, TableRule};
use gonvel_core::table_patterns::fits;

use crate::columns::{Columns, Field};
use crate::finding::Finding;
use crate::ty::{Ty, parse_type};

/// The steps that a rule comes to for these columns.
///
/// # Errors
/// What is wrong with the rule for this table.
pub fn steps(rule: &Rule, columns: &Columns) -> Result<Vec<Step>, Finding> {
    let names = |change: &dyn Fn(&str) -> String| -> Vec<Renaming> {
        let renamed = columns.fields.iter().map(|f| Renaming { column: f.name.clone(), to: change(&f.name) });
        renamed.filter(|r| r.column != r.to).collect()
    };
    let matching = |patterns: &[String]| -> Vec<&Field> {
        columns.fields.iter().filter(|f| patterns.iter().any(|p| fits(p, &f.name))).collect()
    };
    let rename = |columns: Vec<Renaming>| if columns.is_empty() { Vec::new() } else { vec![Step::Rename { columns }] };
    Ok(match rule {
        Rule::Letters { to } => rename(names(&|name| crate::steps::lettered(name, *to))),
        Rule::Prefix { with } => rename(names(&|name| format!("{with}{name}"))),
        Rule::Drop { columns: patterns } => {
            let gone: Vec<String> = matching(patterns).into_iter().filter(|f| !f.key).map(|f| f.name.clone()).collect();
            if gone.is_empty() { Vec::new() } else { vec![Step::Drop { columns: gone }] }
        }
        Rule::Add { column, value } => vec![Step::Compute { column: column.clone(), value: value.clone() }],
        Rule::Convert { from, to } => {
            let wanted = from.trim().to_lowercase();
            let exact = parse_type(from);
            let is = |ty: &Ty| {
                exact.as_ref() == Some(ty) || wanted == "numeric" && matches!(ty, Ty::Numeric { .. }) || ty.name() == wanted
            };
            let written = |f: &Field| f.source_type.to_string() == wanted;
            if exact.is_none() && wanted != "numeric" && !columns.fields.iter().any(written) {
                return Err(Finding::error(format!("there is no type {from}")));
            }
            let chosen = columns.fields.iter().filter(|f| is(&f.ty) || written(f));
            chosen.map(|f| Step::Convert { column: f.name.clone(), to: to.clone() }).collect()
        }
        Rule::Substitute { characters, with } => {
            let texts: Vec<String> = columns.fields.iter().filter(|f| f.ty == Ty::Text).map(|f| f.name.clone()).collect();
            if texts.is_empty() {
                Vec::new()
            } else {
                vec![Step::Substitute { columns: texts, characters: characters.clone(), with: with.clone() }]
            }
        }
        Rule::Mask { columns: patterns, mask } => {
            let hidden: Vec<String> = matching(patterns).into_iter().map(|f| f.name.clone()).collect();
            if hidden.is_empty() { Vec::new() } else { vec![Step::Mask { columns: hidden, mask: mask.clone() }] }
        }
    })
}

/// All that the rules for a table come to, in order; each rule sees what the ones before it left.
pub(crate) fn covering<'r>(rules: &'r [TableRule], schema: &str, table: &str) -> impl Iterator<Item = &'r Rule> {
    let (schema, table) = (schema.to_owned(), table.to_owned());
    rules.iter().filter(move |rule| rule.covers(&schema, &table)).flat_map(|rule| &rule.rules)
}
