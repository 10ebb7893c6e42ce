-- +goose Up
-- What gradebooks said when they were read last: every record as it came.
CREATE TABLE gradebook_records (
    interface_id uuid NOT NULL REFERENCES interfaces ON DELETE CASCADE,
    collection   text NOT NULL,
    remote_id    text NOT NULL,
    class        text NOT NULL, -- of an assignment
    item         text NOT NULL, -- of a score
    record       jsonb NOT NULL,
    sum          bigint NOT NULL, -- of the record, to see whether it changed
    read_no      bigint NOT NULL, -- the read that saw it last
    gone_at      timestamptz, -- a whole read did not see it any more
    PRIMARY KEY (interface_id, collection, remote_id)
);
CREATE INDEX gradebook_records_item ON gradebook_records (interface_id, item) WHERE item <> '';
CREATE INDEX gradebook_records_class ON gradebook_records (interface_id, class) WHERE class <> '';

CREATE TABLE gradebook_reads (
    interface_id uuid PRIMARY KEY REFERENCES interfaces ON DELETE CASCADE,
    read_no      bigint NOT NULL,
    read_at      timestamptz NOT NULL, -- when the last read that came to its end began
    whole_at     timestamptz NOT NULL, -- the same of one that asked for everything
    unread       jsonb NOT NULL DEFAULT '[]', -- what could not be understood
    unread_count int NOT NULL DEFAULT 0
);

-- What waits to be put into a gradebook by a file; what a package of the gradebook shows later is proven.
CREATE TABLE gradebook_handed (
    interface_id uuid NOT NULL REFERENCES interfaces ON DELETE CASCADE,
    collection   text NOT NULL,
    remote_id    text NOT NULL,
    item         text NOT NULL, -- of a score
    student      text NOT NULL,
    record       jsonb NOT NULL,
    handed_at    timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (interface_id, collection, remote_id)
);

-- Scores are carried from a class of one interface to those of another.
CREATE TABLE score_links (
    id                  uuid PRIMARY KEY,
    set_id              uuid REFERENCES linked_sets ON DELETE SET NULL,
    source_interface_id uuid NOT NULL REFERENCES interfaces ON DELETE CASCADE,
    source_class        text NOT NULL,
    book_interface_id   uuid NOT NULL REFERENCES interfaces ON DELETE CASCADE,
    policy              jsonb NOT NULL,
    counts              jsonb NOT NULL DEFAULT '{}', -- results by outcome, as compared last
    reasons             jsonb NOT NULL DEFAULT '[]', -- why nothing more is carried
    not_ready           int NOT NULL DEFAULT 0,
    oldest_draft        timestamptz, -- when the oldest score was entered that is not final
    compared_at         timestamptz,
    ran_at              timestamptz,
    next_at             timestamptz,
    last_run_id         uuid,
    last_failed         boolean NOT NULL DEFAULT false,
    trouble             text NOT NULL DEFAULT '',
    trouble_code        text NOT NULL DEFAULT '',
    paused_at           timestamptz,
    ended_at            timestamptz,
    made_by             text NOT NULL,
    version             int NOT NULL DEFAULT 1,
    created_at          timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX score_links_due ON score_links (next_at) WHERE next_at IS NOT NULL;

-- The book's class of each section.
CREATE TABLE score_link_sections (
    link_id    uuid NOT NULL REFERENCES score_links ON DELETE CASCADE,
    section_id uuid NOT NULL,
    position   int NOT NULL,
    book_class text NOT NULL,
    PRIMARY KEY (link_id, section_id)
);
CREATE INDEX score_link_sections_section ON score_link_sections (section_id);

-- An assignment of the source in the book of one section.
CREATE TABLE score_items (
    id             uuid PRIMARY KEY,
    link_id        uuid NOT NULL REFERENCES score_links ON DELETE CASCADE,
    section_id     uuid NOT NULL,
    source_item    text NOT NULL,
    book_interface uuid NOT NULL,
    book_item      text NOT NULL DEFAULT '', -- empty while there is none
    made           boolean NOT NULL DEFAULT false, -- by Kanban
    linked_by      text NOT NULL DEFAULT '',
    linked_at      timestamptz,
    content        text NOT NULL DEFAULT '', -- empty for that of the link
    basis          text NOT NULL DEFAULT '',
    category       text NOT NULL DEFAULT '',
    period         text NOT NULL DEFAULT '',
    left_out       text NOT NULL DEFAULT '', -- why it is left out
    left_out_by    text NOT NULL DEFAULT '',
    left_out_as    text NOT NULL DEFAULT '', -- how it was then
    UNIQUE (link_id, section_id, source_item)
);
CREATE UNIQUE INDEX score_items_written_once ON score_items (book_interface, book_item) WHERE book_item <> '';

-- What was carried last of each person.
CREATE TABLE score_carried (
    item_id    uuid NOT NULL REFERENCES score_items ON DELETE CASCADE,
    person_id  uuid NOT NULL,
    mark       jsonb NOT NULL,
    carried_at timestamptz NOT NULL,
    run_id     uuid NOT NULL,
    PRIMARY KEY (item_id, person_id)
);

-- What somebody decided about scores that differ.
CREATE TABLE score_decisions (
    item_id    uuid NOT NULL REFERENCES score_items ON DELETE CASCADE,
    person_id  uuid NOT NULL,
    take       text NOT NULL,
    theirs     jsonb NOT NULL,
    ours       jsonb NOT NULL,
    decided_by text NOT NULL,
    decided_at timestamptz NOT NULL,
    PRIMARY KEY (item_id, person_id)
);

-- To whom results of somebody unknown belong, and in which section a mover's go on.
CREATE TABLE score_owners (
    link_id     uuid NOT NULL REFERENCES score_links ON DELETE CASCADE,
    source_item text NOT NULL, -- empty for every one
    student     text NOT NULL, -- as the source calls them
    person_id   uuid NOT NULL,
    section_id  uuid, -- NULL for the one that they are in
    given_by    text NOT NULL,
    given_at    timestamptz NOT NULL,
    PRIMARY KEY (link_id, source_item, student)
);

-- Periods after which nothing is carried any more.
CREATE TABLE score_periods_final (
    link_id  uuid NOT NULL REFERENCES score_links ON DELETE CASCADE,
    period   text NOT NULL,
    final_by text NOT NULL,
    final_at timestamptz NOT NULL,
    PRIMARY KEY (link_id, period)
);

CREATE TABLE score_previews (
    id          uuid PRIMARY KEY,
    link_id     uuid NOT NULL REFERENCES score_links ON DELETE CASCADE,
    plan        jsonb NOT NULL,
    fingerprint text NOT NULL,
    reverts     uuid REFERENCES runs ON DELETE CASCADE,
    source_read timestamptz,
    book_read   timestamptz,
    created_at  timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX score_previews_created ON score_previews (created_at);

ALTER TABLE runs ADD score_link_id uuid REFERENCES score_links ON DELETE CASCADE;
CREATE UNIQUE INDEX runs_one_per_score_link ON runs (score_link_id)
    WHERE score_link_id IS NOT NULL AND state IN ('queued', 'running');
CREATE INDEX runs_score_link ON runs (score_link_id, id DESC) WHERE score_link_id IS NOT NULL;

-- What a run does to the book, and what became of it.
CREATE TABLE score_changes (
    run_id      uuid NOT NULL REFERENCES runs ON DELETE CASCADE,
    position    int NOT NULL,
    what        text NOT NULL, -- category, assignment, score
    item_id     uuid,
    person_id   uuid,
    title       text NOT NULL,
    name        text NOT NULL DEFAULT '',
    outcome     text NOT NULL DEFAULT '',
    reason      text NOT NULL DEFAULT '',
    was         jsonb, -- carried before
    before      jsonb, -- in the book before
    sent        jsonb,
    book_id     text NOT NULL DEFAULT '',
    state       text NOT NULL,
    code        text NOT NULL DEFAULT '',
    answer      text NOT NULL DEFAULT '',
    started_at  timestamptz,
    finished_at timestamptz,
    PRIMARY KEY (run_id, position)
);

-- +goose Down
DROP TABLE score_changes;
ALTER TABLE runs DROP score_link_id;
DROP TABLE score_previews;
DROP TABLE score_periods_final;
DROP TABLE score_owners;
DROP TABLE score_decisions;
DROP TABLE score_carried;
DROP TABLE score_items;
DROP TABLE score_link_sections;
DROP TABLE score_links;
DROP TABLE gradebook_handed;
DROP TABLE gradebook_reads;
DROP TABLE gradebook_records;
