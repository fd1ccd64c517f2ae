-- +goose Up

-- An issue is of a rule, one for a dataset; or a person made it of a lead, of one text of a finding, or of chosen rows.
ALTER TABLE issues ADD COLUMN subject text NOT NULL DEFAULT 'rule' CHECK (subject IN ('rule', 'lead', 'text', 'rows'));
ALTER TABLE issues ADD COLUMN about json NOT NULL DEFAULT '{}';
ALTER TABLE issues DROP CONSTRAINT issues_dataset_id_rule_key;
CREATE UNIQUE INDEX issues_of_rules ON issues (dataset_id, rule) WHERE subject = 'rule';
