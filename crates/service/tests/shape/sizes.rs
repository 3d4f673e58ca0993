use std::path::Path;

use syn::spanned::Spanned;
use syn::visit::Visit;

use super::{crate_names, is_for_tests, sources};

/// Lines of a file without its tests.
const LONGEST_FILE: usize = 500;

/// Lines of a function.
const LONGEST_FUNCTION: usize = 60;

fn is_test_file(place: &Path) -> bool {
    let is_test = |part: &std::ffi::OsStr| {
        let part = part.to_string_lossy();
        part == "tests" || part.trim_end_matches(".rs").ends_with("tests") || part.starts_with("testing")
    };
    place.iter().any(is_test)
}

#[derive(Default)]
struct Functions {
    too_long: Vec<(String, usize)>,
}

impl Functions {
    fn measure(&mut self, name: &syn::Ident, whole: proc_macro2::Span, attributes: &[syn::Attribute]) {
        let lines = whole.end().line - whole.start().line + 1;
        if lines >= LONGEST_FUNCTION && !is_for_tests(attributes) {
            self.too_long.push((name.to_string(), lines));
        }
    }
}

impl<'ast> Visit<'ast> for Functions {
    fn visit_item_fn(&mut self, function: &'ast syn::ItemFn) {
        self.measure(&function.sig.ident, function.block.span(), &function.attrs);
        syn::visit::visit_item_fn(self, function);
    }

    fn visit_impl_item_fn(&mut self, function: &'ast syn::ImplItemFn) {
        self.measure(&function.sig.ident, function.block.span(), &function.attrs);
        syn::visit::visit_impl_item_fn(self, function);
    }

    fn visit_item_mod(&mut self, module: &'ast syn::ItemMod) {
        if !is_for_tests(&module.attrs) {
            syn::visit::visit_item_mod(self, module);
        }
    }
}

#[test]
fn files_and_functions_can_be_read_at_once() {
    let mut findings = Vec::new();
    for name in crate_names() {
        for (place, text) in sources(&name).into_iter().filter(|(place, _)| !is_test_file(place)) {
            let file = syn::parse_file(&text).unwrap();
            let tests = file.items.iter().filter_map(|item| match item {
                syn::Item::Mod(module) if is_for_tests(&module.attrs) => Some(module.span().start().line),
                _ => None,
            });
            let lines = tests.min().unwrap_or(text.lines().count());
            if lines >= LONGEST_FILE {
                findings.push(format!("{name}/{}: {lines} lines", place.display()));
            }
            let mut functions = Functions::default();
            functions.visit_file(&file);
            let told = functions.too_long.into_iter();
            findings.extend(
                told.map(|(function, lines)| format!("{name}/{}: `{function}` has {lines} lines", place.display())),
            );
        }
    }
    assert!(findings.is_empty(), "{findings:#?}");
}
