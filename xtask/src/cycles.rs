//! Import cycles between sibling modules of a crate. A module and its parent may use each other.

use crate::command::say;
use anyhow::{Context, Result, bail};
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use syn::visit::{self, Visit};
use syn::{Attribute, Item, ItemMod, ItemUse, UseTree};

/// A module by the parts of its name below the crate's root.
type Module = Vec<String>;
type Edges = BTreeMap<Module, BTreeSet<Module>>;

/// Refuses every cycle.
pub(crate) fn cycles(files: &[(PathBuf, String)]) -> Result<()> {
    let mut crates: BTreeMap<String, BTreeMap<Module, &str>> = BTreeMap::new();
    for (path, text) in files {
        if let Some((of, module)) = module_of(path) {
            crates.entry(of).or_default().insert(module, text);
        }
    }
    let mut found = BTreeSet::new();
    for (of, modules) in &crates {
        let edges = edges(modules).with_context(|| of.clone())?;
        found.extend(groups(&edges).into_iter().map(|group| format!("{of}: {group}")));
    }
    say(&format!("import cycles: {}", found.len()));
    if !found.is_empty() {
        let all: Vec<_> = found.into_iter().collect();
        bail!("modules that import each other: {}", all.join("; "));
    }
    Ok(())
}

/// Crate and module of a source file; nothing for files outside `src` or in another language.
fn module_of(path: &Path) -> Option<(String, Module)> {
    let without_suffix = path.with_extension("");
    let is_rust = path.extension().is_some_and(|extension| extension == "rs");
    let mut parts = without_suffix.iter().filter_map(|part| part.to_str());
    let of = parts.find(|part| *part != "crates")?;
    if !is_rust || parts.next()? != "src" {
        return None;
    }
    let mut module: Module = parts.map(str::to_owned).collect();
    if module.last().is_some_and(|last| last == "mod") || module == ["lib"] || module == ["main"] {
        module.pop();
    }
    Some((of.to_owned(), module))
}

/// What siblings import from each other outside tests.
fn edges(modules: &BTreeMap<Module, &str>) -> Result<Edges> {
    let mut imports = Vec::new();
    let mut tests = Vec::new();
    for (module, text) in modules {
        let file = syn::parse_file(text).with_context(|| module.join("::"))?;
        let mut seen = Imports { module: module.clone(), used: BTreeSet::new(), tests: Vec::new() };
        seen.visit_file(&file);
        tests.append(&mut seen.tests);
        imports.push((module, seen.used));
    }
    let mut edges = Edges::new();
    for (module, used) in imports {
        if tests.iter().any(|test| module.starts_with(test)) {
            continue;
        }
        for name in used {
            let lengths = (0..=name.len()).rev();
            let Some(length) = lengths.into_iter().find(|l| modules.contains_key(&name[..*l]))
            else {
                continue;
            };
            let used = &name[..length];
            let common = module.iter().zip(used).take_while(|(a, b)| a == b).count();
            if common < module.len() && common < used.len() {
                let sibling = |of: &[String]| of[..=common].to_vec();
                edges.entry(sibling(module)).or_default().insert(sibling(used));
            }
        }
    }
    Ok(edges)
}

/// Names that one file uses outside tests, from the crate's root on.
///
/// Limits: it does not look into the arguments of macros.
struct Imports {
    /// The file's module and the modules in it that are open.
    module: Module,
    used: BTreeSet<Module>,
    /// Modules that only tests have.
    tests: Vec<Module>,
}

impl Imports {
    fn add(&mut self, name: &[String]) {
        let mut parts = name.iter().peekable();
        let mut from = match parts.next().map(String::as_str) {
            Some("crate") => Vec::new(),
            Some("self") => self.module.clone(),
            Some("super") => {
                let mut parent = self.module.clone();
                parent.pop();
                parent
            }
            _ => return,
        };
        while parts.next_if(|part| *part == "super").is_some() {
            from.pop();
        }
        from.extend(parts.cloned());
        self.used.insert(from);
    }

    fn add_tree(&mut self, before: &[String], tree: &UseTree) {
        let with = |last: &syn::Ident| [before, &[last.to_string()]].concat();
        match tree {
            UseTree::Path(path) => self.add_tree(&with(&path.ident), &path.tree),
            UseTree::Group(group) => {
                group.items.iter().for_each(|item| self.add_tree(before, item))
            }
            UseTree::Name(name) => self.add(&with(&name.ident)),
            UseTree::Rename(name) => self.add(&with(&name.ident)),
            UseTree::Glob(_) => self.add(before),
        }
    }
}

fn only_in_tests(attributes: &[Attribute]) -> bool {
    attributes.iter().any(|attribute| {
        let argument = attribute.parse_args::<syn::Ident>();
        attribute.path().is_ident("cfg") && argument.is_ok_and(|name| name == "test")
    })
}

impl<'a> Visit<'a> for Imports {
    fn visit_item(&mut self, item: &'a Item) {
        let attributes = match item {
            Item::Fn(item) => &item.attrs,
            Item::Impl(item) => &item.attrs,
            Item::Use(item) => &item.attrs,
            _ => &Vec::new(),
        };
        if !only_in_tests(attributes) {
            visit::visit_item(self, item);
        }
    }

    fn visit_item_mod(&mut self, item: &'a ItemMod) {
        self.module.push(item.ident.to_string());
        if only_in_tests(&item.attrs) {
            self.tests.push(self.module.clone());
        } else {
            visit::visit_item_mod(self, item);
        }
        self.module.pop();
    }

    fn visit_item_use(&mut self, item: &'a ItemUse) {
        self.add_tree(&[], &item.tree);
    }

    fn visit_path(&mut self, path: &'a syn::Path) {
        let name: Module = path.segments.iter().map(|part| part.ident.to_string()).collect();
        self.add(&name);
        visit::visit_path(self, path);
    }
}

/// Groups of modules each of which reaches all others of its group, as lists of names.
fn groups(edges: &Edges) -> BTreeSet<String> {
    let reached = |from: &Module| {
        let mut reached = BTreeSet::new();
        let mut open = vec![from];
        while let Some(next) = open.pop() {
            for to in edges.get(next).into_iter().flatten() {
                if reached.insert(to.clone()) {
                    open.push(to);
                }
            }
        }
        reached
    };
    let all: BTreeMap<&Module, BTreeSet<Module>> = edges.keys().map(|m| (m, reached(m))).collect();
    let mut groups = BTreeSet::new();
    for (module, reached) in &all {
        let back =
            |other: &&Module| all.get(other).is_some_and(|reached| reached.contains(*module));
        let group: Vec<String> = reached.iter().filter(back).map(|m| m.join("::")).collect();
        if group.len() > 1 {
            groups.insert(group.join(", "));
        }
    }
    groups
}

#[cfg(test)]
mod tests {
    use super::*;

    fn groups_of(files: &[(&str, &str)]) -> Vec<String> {
        let modules = files.iter().map(|(path, text)| {
            let (of, module) = module_of(Path::new(path)).unwrap();
            assert_eq!(of, "x");
            (module, *text)
        });
        groups(&edges(&modules.collect()).unwrap()).into_iter().collect()
    }

    #[test]
    fn siblings_that_import_each_other_are_found() {
        let found = groups_of(&[
            ("crates/x/src/lib.rs", "mod a; mod b; mod c;"),
            ("crates/x/src/a.rs", "use crate::{b::{self, Thing}, c};"),
            ("crates/x/src/b.rs", "fn f() -> u8 { super::c::g() }"),
            ("crates/x/src/c/mod.rs", "mod d;"),
            ("crates/x/src/c/d.rs", "impl crate::a::Named for u8 {}"),
        ]);
        assert_eq!(found, ["a, b, c"]);
    }

    #[test]
    fn parents_tests_and_one_direction_are_allowed() {
        let found = groups_of(&[
            ("crates/x/src/main.rs", "mod a; mod b; mod c;"),
            ("crates/x/src/a/mod.rs", "mod one; use one::f; pub struct Parent;"),
            ("crates/x/src/a/one.rs", "use super::Parent; use crate::b::Thing;"),
            (
                "crates/x/src/b.rs",
                "#[cfg(test)] mod tests { use crate::a; } #[cfg(test)] mod more;",
            ),
            ("crates/x/src/b/more.rs", "use crate::a::Parent;"),
            ("crates/x/src/c.rs", "mod inner { use super::Own; } struct Own;"),
        ]);
        assert_eq!(found, [""; 0]);
    }

    #[test]
    fn only_sources_of_a_crate_are_modules() {
        for path in ["crates/x/tests/it/main.rs", "crates/x/benches/b.rs", "console/src/app.ts"] {
            assert_eq!(module_of(Path::new(path)), None, "{path}");
        }
        let own = module_of(Path::new("xtask/src/cycles.rs"));
        assert_eq!(own, Some(("xtask".to_owned(), vec!["cycles".to_owned()])));
    }
}
