-- A run of the first site that found much: on each page, for each device, half of them of one cause, as a broken theme makes them.
INSERT INTO findings (run_id, name, place, document)
SELECT r.id, md5('much-' || n), 1000 + n, jsonb_build_object('kind', CASE n % 4 WHEN 0 THEN 'picture' WHEN 1 THEN 'request' WHEN 2 THEN 'content' ELSE 'script-error' END, 'severity', CASE n % 3 WHEN 0 THEN 'broken' WHEN 1 THEN 'unsure' ELSE 'note' END,
  'page', '/page-' || n / 20, 'persona', CASE n % 4 WHEN 0 THEN 'member' ELSE 'visitor' END, 'device', CASE n % 2 WHEN 0 THEN 'desktop' ELSE 'phone' END, 'title', 'Something is otherwise ' || n % 100, 'detail', 'What is otherwise, in a sentence or two, as long as most of them are.',
  'cause', CASE WHEN n % 2 = 0 THEN 'one for all' ELSE 'cause ' || n % 100 END, 'part', 'part ' || n, 'fingerprint', md5('much-' || n))
FROM (SELECT max(id) AS id FROM runs WHERE site_id = 1 AND kind = 'check') r, generate_series(1, current_setting('much.findings')::int) n;

INSERT INTO history (site_id, kind, text, who, at)
SELECT 1, 'check', 'Something happened here that is told in a sentence.', 'Ada', now() - n * interval '144 minutes' FROM generate_series(current_setting('much.history')::int, 1, -1) n;

-- A site that is being added, whose sitemap named much.
INSERT INTO onboardings (name, document, tokens, made_by)
SELECT 'Large shop', jsonb_build_object('environments', '[{"name": "staging", "role": "staging", "url": "http://127.0.0.1:1", "connector": {"kind": "http", "url": "http://127.0.0.1:1/_speed/v1"}}]'::jsonb, 'tests', '[]'::jsonb,
  'survey', jsonb_build_object('state', 'done', 'listed', current_setting('much.pages')::int, 'done', 40, 'wanted', 40, 'notes', '[]'::jsonb), 'personas', '[]'::jsonb, 'journeys', '[]'::jsonb, 'publishing', '[]'::jsonb,
  'pages', (SELECT jsonb_agg(jsonb_build_object('path', '/' || (ARRAY['item', 'article', 'listing', 'account', 'other'])[1 + n % 5] || '/part-' || n % 97 || '/page-' || n, 'title', 'Page ' || n,
      'class', (ARRAY['item', 'article', 'listing', 'account', 'other'])[1 + n % 5], 'why', 'Its address looks like others of this class.', 'watch', n % 500 = 0)) FROM generate_series(1, current_setting('much.pages')::int) n)), '{}', 'Ada';
ANALYZE;
