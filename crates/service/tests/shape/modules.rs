use std::collections::{BTreeMap, BTreeSet};

use syn::visit::Visit;

use super::{crate_names, is_for_tests, sources};

type Place = Vec<String>;

/// A module without its tests: what it defines, what names it has from elsewhere, and which paths stand in it.
#[derive(Default)]
struct Module {
    defined: BTreeSet<String>,
    /// By the name that they have here.
    imported: BTreeMap<String, Vec<String>>,
    paths: Vec<Vec<String>>,
}

impl Module {
    fn read(items: &[syn::Item]) -> Self {
        let mut module = Self::default();
        for item in items {
            module.visit_item(item);
            let name = match item {
                syn::Item::Const(item) => &item.ident,
                syn::Item::Enum(item) => &item.ident,
                syn::Item::Fn(item) => &item.sig.ident,
                syn::Item::Static(item) => &item.ident,
                syn::Item::Struct(item) => &item.ident,
                syn::Item::Trait(item) => &item.ident,
                syn::Item::Type(item) => &item.ident,
                _ => continue,
            };
            module.defined.insert(name.to_string());
        }
        module
    }

    fn import(&mut self, tree: &syn::UseTree, mut before: Vec<String>) {
        match tree {
            syn::UseTree::Path(path) => {
                before.push(path.ident.to_string());
                self.import(&path.tree, before);
            }
            syn::UseTree::Group(group) => group.items.iter().for_each(|tree| self.import(tree, before.clone())),
            syn::UseTree::Name(name) => self.keep(name.ident.to_string(), &name.ident, before),
            syn::UseTree::Rename(name) => self.keep(name.rename.to_string(), &name.ident, before),
            syn::UseTree::Glob(_) => self.paths.push(before),
        }
    }

    fn keep(&mut self, here: String, there: &syn::Ident, mut path: Vec<String>) {
        if there != "self" {
            path.push(there.to_string());
        }
        self.paths.push(path.clone());
        self.imported.insert(here, path);
    }
}

impl<'ast> Visit<'ast> for Module {
    fn visit_item(&mut self, item: &'ast syn::Item) {
        match item {
            syn::Item::Use(item) if is_for_tests(&item.attrs) => {}
            syn::Item::Use(item) => self.import(&item.tree, Vec::new()),
            // Modules in the same file are part of it.
            syn::Item::Mod(module) if is_for_tests(&module.attrs) => {}
            syn::Item::Fn(item) if is_for_tests(&item.attrs) => {}
            syn::Item::Impl(item) if is_for_tests(&item.attrs) => {}
            item => syn::visit::visit_item(self, item),
        }
    }

    fn visit_path(&mut self, path: &'ast syn::Path) {
        self.paths.push(path.segments.iter().map(|segment| segment.ident.to_string()).collect());
        syn::visit::visit_path(self, path);
    }
}

struct Crate {
    modules: BTreeMap<Place, Module>,
}

impl Crate {
    fn read(name: &str) -> Self {
        let mut modules = BTreeMap::new();
        for (place, text) in sources(name) {
            let mut place: Place =
                place.with_extension("").iter().map(|part| part.to_str().unwrap().to_owned()).collect();
            if matches!(place.last().map(String::as_str), Some("lib" | "main" | "mod")) {
                place.pop();
            }
            if !place.iter().any(|part| part.ends_with("tests") || part.starts_with("testing")) {
                modules.insert(place, Module::read(&syn::parse_file(&text).unwrap().items));
            }
        }
        Self { modules }
    }

    /// The module that defines what `path` names when it stands in `here`; none if it is of another crate.
    fn defining(&self, here: &Place, path: &[String], depth: usize) -> Option<Place> {
        let (first, rest) = path.split_first()?;
        let mut at = match first.as_str() {
            "crate" => Vec::new(),
            "self" => here.clone(),
            "super" => here[..here.len().checked_sub(1)?].to_vec(),
            // Names that stand there without a way to them are known where they are imported.
            _ => return None,
        };
        let mut found = None;
        for name in rest {
            if name == "super" {
                at.pop();
                continue;
            }
            let Some(next) = self.step(&at, name, depth) else { break };
            found = Some(next.clone());
            at = next;
        }
        found
    }

    fn step(&self, at: &Place, name: &str, depth: usize) -> Option<Place> {
        let child: Place = at.iter().cloned().chain([name.to_owned()]).collect();
        if self.modules.contains_key(&child) {
            return Some(child);
        }
        let module = self.modules.get(at)?;
        if module.defined.contains(name) {
            return Some(at.clone());
        }
        let path = module.imported.get(name)?;
        let path: Vec<String> = match path.first()?.as_str() {
            "crate" | "self" | "super" => path.clone(),
            _ => ["self".to_owned()].into_iter().chain(path.iter().cloned()).collect(),
        };
        if depth == 0 { None } else { self.defining(at, &path, depth - 1) }
    }

    /// Which modules of one folder use which others of it, by folder.
    fn arrows(&self) -> BTreeMap<Place, BTreeMap<String, BTreeSet<String>>> {
        let mut arrows: BTreeMap<Place, BTreeMap<String, BTreeSet<String>>> = BTreeMap::new();
        for (here, module) in &self.modules {
            for there in module.paths.iter().filter_map(|path| self.defining(here, path, 8)) {
                let shared = here.iter().zip(&there).take_while(|(one, other)| one == other).count();
                if let (Some(from), Some(to)) = (here.get(shared), there.get(shared)) {
                    let folder = arrows.entry(here[..shared].to_vec()).or_default();
                    folder.entry(from.clone()).or_default().insert(to.clone());
                }
            }
        }
        arrows
    }
}

/// A circle among `arrows`, if there is one.
fn circle(arrows: &BTreeMap<String, BTreeSet<String>>) -> Option<Vec<String>> {
    fn walk<'a>(
        at: &'a str,
        arrows: &'a BTreeMap<String, BTreeSet<String>>,
        way: &mut Vec<&'a str>,
        done: &mut BTreeSet<&'a str>,
    ) -> Option<Vec<String>> {
        if let Some(start) = way.iter().position(|before| *before == at) {
            return Some(way[start..].iter().map(|name| (*name).to_owned()).collect());
        }
        if !done.contains(at) {
            way.push(at);
            for next in arrows.get(at).into_iter().flatten() {
                if let Some(circle) = walk(next, arrows, way, done) {
                    return Some(circle);
                }
            }
            way.pop();
            done.insert(at);
        }
        None
    }
    let mut done = BTreeSet::new();
    arrows.keys().find_map(|start| walk(start, arrows, &mut Vec::new(), &mut done))
}

#[test]
fn no_modules_go_in_a_circle() {
    let mut findings = Vec::new();
    let mut arrow_count = 0;
    for name in crate_names() {
        for (folder, arrows) in Crate::read(&name).arrows() {
            arrow_count += arrows.values().map(BTreeSet::len).sum::<usize>();
            let circle = circle(&arrows).map(|circle| circle.join(" → "));
            findings.extend(circle.map(|circle| format!("{name}/{}: {circle}", folder.join("/"))));
        }
    }
    assert!(findings.is_empty(), "{findings:#?}");
    assert!(arrow_count > 300, "only {arrow_count} arrows were found: the search is broken");
}

#[test]
fn a_circle_is_found() {
    let module = |text: &str| Module::read(&syn::parse_file(text).unwrap().items);
    let read = |modules: [(&str, &str); 4]| {
        let place = |name: &str| if name.is_empty() { Vec::new() } else { vec![name.to_owned()] };
        Crate { modules: modules.into_iter().map(|(name, text)| (place(name), module(text))).collect() }
    };
    let root = "mod one; mod other; mod third; pub use other::Other;";
    let third = "#[cfg(test)] mod tests { use crate::one::One; }";
    let other = "pub struct Other; use super::third;";
    let of = |one: &str, other: &str| {
        let found = read([("", root), ("one", one), ("other", other), ("third", third)]).arrows();
        circle(found.get(&Vec::new()).unwrap_or(&BTreeMap::new()))
    };
    assert_eq!(of("struct One(crate::Other);", other), None);
    let back = "pub struct Other; fn other() { crate::one::one(); }";
    assert_eq!(of("use crate::Other; pub fn one() {}", back).unwrap(), ["one", "other"]);
}
