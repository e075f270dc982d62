-- +goose Up
-- All addresses of a site are read at once: from the index alone, in its order.
ALTER TABLE addresses DROP CONSTRAINT addresses_pkey;
ALTER TABLE addresses ADD PRIMARY KEY (site_id, path) INCLUDE (class);

-- +goose Down
ALTER TABLE addresses DROP CONSTRAINT addresses_pkey;
ALTER TABLE addresses ADD PRIMARY KEY (site_id, path);
