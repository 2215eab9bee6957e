-- What an application's key may do is said, not left open: one without a list could do all of it.
update keys set endpoints = array['evaluation', 'evaluations', 'search', 'activation']
where application is not null and cardinality(endpoints) = 0;
