//! What an asset is and where it stands, as every asset file says it.

use crate::asset::Identity;
use schemars::JsonSchema;
use serde::Deserialize;

/// The `[asset]` table; `K` holds the kinds of the file's wing.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct IdentityForm<K> {
    /// The kind of asset.
    kind: K,
    /// Operating designation, such as `Q07-F1`.
    tag: String,
    /// Operator of the site.
    operator: Option<String>,
    /// Substation.
    site: Option<String>,
    /// Bay.
    bay: Option<String>,
    /// Maker.
    maker: Option<String>,
    /// Model.
    model: Option<String>,
    /// Serial number.
    serial: Option<String>,
}

impl<K> IdentityForm<K> {
    /// The kind, and who and where it is.
    pub fn read(self) -> (K, Identity) {
        let identity = Identity {
            tag: self.tag,
            site: self.site,
            bay: self.bay,
            operator: self.operator,
            maker: self.maker,
            model: self.model,
            serial: self.serial,
        };
        (self.kind, identity)
    }
}
