-- Makes of one site a house with many, and two years of what happened there. scale.* say how many; site 1 is the model.
ALTER TABLE looks DISABLE TRIGGER USER;
ALTER TABLE marks DISABLE TRIGGER USER;

INSERT INTO sites (name, document)
SELECT name || ' ' || lpad(n::text, 5, '0'), document || jsonb_build_object('name', name || ' ' || lpad(n::text, 5, '0'))
FROM sites, generate_series(2, current_setting('scale.sites')::int) n WHERE id = 1;

INSERT INTO environments (site_id, name, role, position, url, connector_kind, connector_url, token, about, catalogue, fingerprint, read_at)
SELECT s.id, e.name, e.role, e.position, e.url, e.connector_kind, e.connector_url, e.token, e.about, e.catalogue, (SELECT fingerprint FROM revisions WHERE site_id = 1 ORDER BY created_at LIMIT 1), now()
FROM sites s, environments e WHERE s.id > 1 AND e.site_id = 1 ORDER BY s.id, e.id;

INSERT INTO revisions (site_id, fingerprint, values)
SELECT s.id, r.fingerprint, r.values FROM sites s, revisions r WHERE s.id > 1 AND r.site_id = 1;

-- A change each week, all but the newest over.
INSERT INTO changes (site_id, title, state, base, edits, created_by, created_at, updated_at)
SELECT s.id, 'Change ' || n, CASE WHEN n = 100 THEN 'checked' WHEN n % 9 = 0 THEN 'rolled back' ELSE 'marked' END, e.fingerprint, '{"/scripts/defer": true}', 'Ada',
  now() - (100 - n) * interval '7 days', now() - (100 - n) * interval '7 days'
FROM sites s JOIN environments e ON e.site_id = s.id AND e.role = 'staging', generate_series(1, 100) n ORDER BY s.id, n;

-- Runs in turn on the environments.
INSERT INTO runs (site_id, environment_id, change_id, kind, state, verdict, summary, progress, target, before, requested_by, created_at, started_at, finished_at, attempt, handed)
SELECT s.id, e.id, CASE WHEN n % 2 = 0 THEN (s.id - 1) * 100 + 1 + n / current_setting('scale.sites')::int % 100 END, CASE n / current_setting('scale.sites')::int % 10 WHEN 0 THEN 'mark' WHEN 1 THEN 'promote' WHEN 2 THEN 'try' ELSE 'check' END, 'done',
  CASE n % 5 WHEN 0 THEN 'broken' WHEN 1 THEN 'unsure' ELSE 'clear' END, 'What a run came to, in a sentence.', '{"looks": {"planned": 40, "done": 40, "failed": 0}}', e.fingerprint, e.fingerprint, 'Ada', t.at, t.at, t.at + interval '1 minute', 1, 1
FROM generate_series(1, current_setting('scale.runs')::int) n
JOIN LATERAL (SELECT now() - (1 - n::float8 / current_setting('scale.runs')::int) * interval '730 days' AS at) t ON true
JOIN sites s ON s.id = 1 + n * 7 % current_setting('scale.sites')::int
JOIN environments e ON e.site_id = s.id AND e.role = CASE WHEN n / current_setting('scale.sites')::int / 10 % 2 = 0 THEN 'staging' ELSE 'production' END
ORDER BY n;

INSERT INTO marks (environment_id, run_id, fingerprint, volatile, who, taken_at)
SELECT environment_id, id, target, '[]', 'Ada', finished_at FROM runs WHERE kind = 'mark' ORDER BY id;
UPDATE runs r SET mark_id = (SELECT max(m.id) FROM marks m WHERE m.environment_id = r.environment_id AND m.run_id < r.id) WHERE kind <> 'mark';

INSERT INTO acts (environment_id, run_id, change_id, kind, fingerprint, predecessor, found, state, who, intended_at, ended_at)
SELECT environment_id, id, change_id, kind, target, before, target, 'applied', 'Ada', started_at, finished_at FROM runs WHERE kind IN ('promote', 'try') ORDER BY id;

INSERT INTO looks (run_id, pass, kind, page, persona, device, document, made_at)
SELECT r.id, 1, 'page', '/page-' || n, CASE n % 4 WHEN 0 THEN 'member' ELSE 'visitor' END, CASE n % 2 WHEN 0 THEN 'desktop' ELSE 'phone' END,
  jsonb_build_object('page', '/page-' || n, 'persona', CASE n % 4 WHEN 0 THEN 'member' ELSE 'visitor' END, 'device', CASE n % 2 WHEN 0 THEN 'desktop' ELSE 'phone' END, 'status', 200, 'title', 'A page',
    'address', 'http://s.example/page-' || n, 'served', 'cached', 'class', 'article', 'attempts', 1, 'timing', '{}'::jsonb, 'lines', lines.list),
  r.finished_at
FROM runs r, generate_series(1, current_setting('scale.looks')::int) n, (SELECT jsonb_agg(jsonb_build_object('text', 'A line of the page, ' || i, 'box', i)) AS list FROM generate_series(1, 12) i) lines ORDER BY r.id, n;

INSERT INTO findings (run_id, name, place, document)
SELECT r.id, md5(r.id || '-' || n), n, jsonb_build_object('kind', CASE n % 4 WHEN 0 THEN 'picture' WHEN 1 THEN 'request' WHEN 2 THEN 'content' ELSE 'script-error' END, 'severity', CASE n % 3 WHEN 0 THEN 'broken' WHEN 1 THEN 'unsure' ELSE 'note' END,
  'page', '/page-' || n, 'persona', CASE n % 4 WHEN 0 THEN 'member' ELSE 'visitor' END, 'device', CASE n % 2 WHEN 0 THEN 'desktop' ELSE 'phone' END, 'title', 'Something is otherwise', 'detail', 'What is otherwise, in a sentence or two.',
  'cause', 'cause ' || n % 6, 'part', 'cause ' || n % 6, 'fingerprint', md5(r.id || '-' || n))
FROM runs r, generate_series(1, current_setting('scale.findings')::int) n ORDER BY r.id, n;

INSERT INTO history (site_id, kind, text, who, at)
SELECT s.id, 'check', 'Something happened here that is told in a sentence.', 'Ada', now() - n * interval '1 hour' FROM generate_series(1, current_setting('scale.history')::int) n, sites s;

-- Site 1 is a large one.
INSERT INTO addresses (site_id, path, class)
SELECT 1, '/' || (ARRAY['item', 'article', 'listing', 'account', 'cart'])[1 + n % 5] || '/part-' || n % 97 || '/page-' || n, (ARRAY['item', 'article', 'listing', 'account', 'cart'])[1 + n % 5]
FROM generate_series(1, current_setting('scale.addresses')::int) n ON CONFLICT DO NOTHING;
INSERT INTO exclusions (site_id, role, key, pattern, reason, who, made_at, environments)
SELECT 1, 'path-exclude', 'pages.never', p, 'It is one person''s.', 'Ada', now() - interval '90 days', '["staging", "production"]'
FROM jsonb_array_elements_text((SELECT values->'pages.never' FROM revisions r JOIN environments e ON e.site_id = r.site_id AND e.fingerprint = r.fingerprint WHERE e.site_id = 1 AND e.role = 'staging')) p
ON CONFLICT DO NOTHING;

ALTER TABLE looks ENABLE TRIGGER USER;
ALTER TABLE marks ENABLE TRIGGER USER;
ANALYZE;

-- A change of the first site, taken to all others.
INSERT INTO rollouts (site_id, change_id, state, pace, measures, title, reason, made_by, made_at) VALUES (1, 100, 'stopped', 'check', false, 'Change 100', '', 'Ada', now());
INSERT INTO rollout_sites (rollout_id, site_id, wave, confirmed, change_id, try_at)
SELECT 1, s.id, 1 + s.id % 5, '[]', (s.id - 1) * 100 + 50, now() FROM sites s WHERE s.id > 1;
