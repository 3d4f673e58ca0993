use anyhow::Result;
use serde_json::{Value, json};

use crate::component::Component;

/// The list as CycloneDX 1.5. Nothing in it depends on when and where it was made.
pub(crate) fn told(version: &str, components: &[Component]) -> Result<String> {
    let list = json!({
        "bomFormat": "CycloneDX",
        "specVersion": "1.5",
        "version": 1,
        "metadata": {"component": {
            "type": "application",
            "bom-ref": "waverant",
            "name": "waverant",
            "version": version,
            "licenses": [{"expression": "Apache-2.0 OR MIT"}],
        }},
        "components": components.iter().map(component).collect::<Vec<Value>>(),
    });
    Ok(serde_json::to_string_pretty(&list)? + "\n")
}

fn component(one: &Component) -> Value {
    let mut told = json!({
        "type": "library",
        "bom-ref": one.url(),
        "name": one.name,
        "version": one.version,
        "purl": one.url(),
        "licenses": [{"expression": one.licence.replace('/', " OR ")}],
    });
    if let Some(digits) = &one.sha512 {
        told["hashes"] = json!([{"alg": "SHA-512", "content": digits}]);
    }
    told
}

#[cfg(test)]
mod tests {
    use std::path::PathBuf;

    use serde_json::Value;

    use super::told;
    use crate::component::{Component, Registry};

    #[test]
    fn each_is_named_by_its_address() {
        let one = Component {
            registry: Registry::Npm,
            name: "@pier/rope".to_owned(),
            version: "2.0.0".to_owned(),
            licence: "MIT/Apache-2.0".to_owned(),
            sha512: Some("0102".to_owned()),
            folder: PathBuf::new(),
        };
        let list: Value = serde_json::from_str(&told("1.2.0", &[one]).unwrap()).unwrap();
        assert_eq!(list["metadata"]["component"]["version"], "1.2.0");
        let told = &list["components"][0];
        assert_eq!(told["purl"], "pkg:npm/%40pier/rope@2.0.0");
        assert_eq!(told["licenses"][0]["expression"], "MIT OR Apache-2.0");
        assert_eq!(told["hashes"][0]["content"], "0102");
    }
}
