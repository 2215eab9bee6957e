//! Routes, affordances and issuers: how applications meet the charter.

use super::super::{
    Affordance, Field, Fields, GroupClaim, Issuer, Route, RouteResource, ServiceClaim, TenantClaim,
    Unregistered,
};
use super::Reader;
use crate::source::{At, Finding};

impl Reader<'_> {
    pub(super) fn route(&mut self, fields: &Fields<'_, '_>) {
        fields.only(
            &["application", "method", "path", "needs", "open", "refuse", "resource", "unregistered"],
            self.findings,
        );
        self.needs(fields, "a route", &["application", "method", "path"]);
        let (mut needs, mut each) = (Vec::new(), Vec::new());
        for item in fields.get("needs").map(|field| field.list(self.findings)).unwrap_or_default() {
            if item.is_table() {
                each.extend(self.need(&item));
            } else {
                needs.extend(item.text(self.findings));
            }
        }
        let route = Route {
            application: self.text(fields, "application"),
            method: self.text(fields, "method"),
            path: self.text(fields, "path"),
            needs,
            each,
            open: self.flag(fields, "open"),
            refuse: self.flag(fields, "refuse"),
            resource: fields.get("resource").and_then(|field| self.route_resource(&field)),
            unregistered: self.flag(fields, "unregistered"),
            span: fields.span,
        };
        self.tree.routes.push(route);
    }

    /// `{ permission = "…", resource = … }`
    fn need(&mut self, field: &Field<'_, '_>) -> Option<(At<String>, RouteResource)> {
        let inner = field.table("needs", self.findings)?;
        inner.only(&["permission", "resource"], self.findings);
        self.needs(&inner, "one of several needs", &["permission", "resource"]);
        Some((self.text(&inner, "permission")?, self.route_resource(&inner.get("resource")?)?))
    }

    fn route_resource(&mut self, field: &Field<'_, '_>) -> Option<RouteResource> {
        if !field.is_table() {
            return field.text(self.findings).map(RouteResource::Named);
        }
        let inner = field.table("resource", self.findings)?;
        inner.only(&["new", "within", "any"], self.findings);
        let (new, any) = (self.text(&inner, "new"), self.text(&inner, "any"));
        let within = self.text(&inner, "within");
        match (new, any) {
            (Some(kind), None) => Some(RouteResource::New(kind, within)),
            (None, Some(kind)) => Some(RouteResource::Any(kind, within)),
            _ => {
                let message =
                    "a route's resource is \"type:{parameter}\", { new = \"type\" } or { any = \"type\" }";
                self.findings.push(Finding::error("wrong-shape", field.span(), message));
                None
            }
        }
    }

    pub(super) fn issuer(&mut self, key: At<String>, fields: &Fields<'_, '_>) {
        fields.only(
            &[
                "name",
                "applications",
                "subject",
                "prefix",
                "same-people",
                "lower-case",
                "services",
                "session",
                "unregistered",
                "tenants",
                "attributes",
                "context",
                "groups",
            ],
            self.findings,
        );
        self.needs(fields, &format!("[issuer.{}]", key.value), &["applications"]);
        let groups = fields.get("groups").map(|field| field.tables("[[…groups]]", self.findings));
        let groups = groups.unwrap_or_default();
        let issuer = Issuer {
            name: self.text(fields, "name"),
            applications: self.texts(fields, "applications"),
            subject: self.text(fields, "subject"),
            prefix: self.text(fields, "prefix"),
            same_people: self.flag(fields, "same-people"),
            lower_case: self.flag(fields, "lower-case"),
            services: self.service_claim(fields),
            session: self.text(fields, "session"),
            unregistered: self.word(
                fields,
                "unregistered",
                &[("anonymous", Unregistered::Anonymous), ("signed-in", Unregistered::SignedIn)],
            ),
            tenants: self.tenant_claim(fields),
            attributes: self.claims(fields, "attributes"),
            context: self.claims(fields, "context"),
            groups: groups.iter().filter_map(|fields| self.group_claim(fields)).collect(),
            key,
        };
        self.tree.issuers.push(issuer);
    }

    fn service_claim(&mut self, fields: &Fields<'_, '_>) -> Option<ServiceClaim> {
        let inner = fields.get("services")?.table("services", self.findings)?;
        inner.only(&["claim", "is"], self.findings);
        self.needs(&inner, "services", &["claim", "is"]);
        let is = inner.get("is")?;
        let words = is.one_or_more(self.findings);
        if words.is_empty() {
            let message = "no token is a service's: say by which values of the claim";
            self.findings.push(Finding::error("empty-list", is.span(), message));
        }
        Some(ServiceClaim { claim: self.text(&inner, "claim")?, is: words })
    }

    fn tenant_claim(&mut self, fields: &Fields<'_, '_>) -> Option<TenantClaim> {
        let inner = fields.get("tenants")?.table("tenants", self.findings)?;
        inner.only(&["claim", "only"], self.findings);
        self.needs(&inner, "tenants", &["claim"]);
        // None at all may be what is meant.
        let only = inner.get("only").map(|field| {
            let items = field.list(self.findings);
            items.iter().filter_map(|item| item.text(self.findings)).collect()
        });
        Some(TenantClaim { claim: self.text(&inner, "claim")?, only })
    }

    fn group_claim(&mut self, fields: &Fields<'_, '_>) -> Option<GroupClaim> {
        fields.only(&["claim", "map", "by-name", "stale-ok"], self.findings);
        self.needs(fields, "groups", &["claim"]);
        let by_name = fields
            .get("by-name")
            .and_then(|field| Some(At::new(field.boolean(self.findings)?, field.span())));
        let map = self.claims(fields, "map");
        if map.is_empty() && !by_name.as_ref().is_some_and(|by_name| by_name.value) {
            let message = "no value of this claim stands for a group";
            let finding = Finding::error("empty-list", fields.span, message);
            self.findings.push(finding.help("add map = { \"VALUE\" = \"GROUP\" }, or by-name = true"));
        }
        Some(GroupClaim {
            claim: self.text(fields, "claim")?,
            map,
            by_name,
            stale_ok: self.flag(fields, "stale-ok"),
            span: fields.span,
        })
    }

    /// What is called so, and the text that stands behind it.
    fn claims(&mut self, fields: &Fields<'_, '_>, key: &str) -> Vec<(At<String>, At<String>)> {
        let Some(table) = fields.get(key).and_then(|field| field.table(key, self.findings)) else {
            return Vec::new();
        };
        table.entries().filter_map(|(name, field)| Some((name, field.text(self.findings)?))).collect()
    }

    pub(super) fn affordance(&mut self, fields: &Fields<'_, '_>) {
        fields.only(&["application", "key", "name", "visible", "enabled", "under"], self.findings);
        self.needs(fields, "an affordance", &["application", "key", "visible"]);
        let application = self.text(fields, "application");
        let key = self.text(fields, "key");
        if let Some(key) = &key {
            self.key(key);
            let of = application.as_ref().map_or("", |application| application.value.as_str());
            self.define(&format!("the affordance {:?} of {of:?}", key.value), key.span);
        }
        let affordance = Affordance {
            application,
            key,
            name: self.text(fields, "name"),
            visible: self.text(fields, "visible"),
            enabled: self.text(fields, "enabled"),
            under: self.text(fields, "under"),
            span: fields.span,
        };
        self.tree.affordances.push(affordance);
    }
}
