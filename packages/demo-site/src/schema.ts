/** The content system's tables: of the ordinary sort, with references that nobody declared. */
export const SCHEMA = `
CREATE TABLE page (id serial PRIMARY KEY, slug text NOT NULL UNIQUE, title text NOT NULL, body text NOT NULL, position int NOT NULL DEFAULT 0, updated_at timestamptz NOT NULL DEFAULT now(), updated_by int);
CREATE TABLE notice (id serial PRIMARY KEY, title text NOT NULL, body text NOT NULL, published_at timestamptz NOT NULL DEFAULT now());
CREATE TABLE menu (id serial PRIMARY KEY, label text NOT NULL, target text NOT NULL, page_id int, position int NOT NULL);
CREATE TABLE product (id serial PRIMARY KEY, slug text NOT NULL UNIQUE, title text NOT NULL, description text NOT NULL, price numeric(10,2) NOT NULL CHECK (price >= 0), image text, stock int NOT NULL DEFAULT 0, updated_at timestamptz NOT NULL DEFAULT now());
CREATE TABLE sailing (id serial PRIMARY KEY, route text NOT NULL, departs time NOT NULL, vessel text NOT NULL, status text NOT NULL DEFAULT 'on time', status_at timestamptz);
CREATE TABLE exhibition (id serial PRIMARY KEY, title text NOT NULL, body text NOT NULL, opens date NOT NULL, closes date NOT NULL);
CREATE TABLE option (name varchar(64) PRIMARY KEY, value text NOT NULL);
CREATE TABLE editor (id serial PRIMARY KEY, login text NOT NULL UNIQUE, name text NOT NULL, email text NOT NULL, password_hash text NOT NULL, role text NOT NULL DEFAULT 'editor');
CREATE TABLE customer (id serial PRIMARY KEY, name text NOT NULL, email text NOT NULL, phone text, street text, password_hash text);
CREATE TABLE purchase (id serial PRIMARY KEY, customer_id int NOT NULL REFERENCES customer, placed_at timestamptz NOT NULL DEFAULT now(), total numeric(10,2) NOT NULL, payment_mode text NOT NULL, note text);
CREATE TABLE purchase_line (id serial PRIMARY KEY, purchase_id int NOT NULL REFERENCES purchase, product_id int NOT NULL, quantity int NOT NULL, price numeric(10,2) NOT NULL);
CREATE TABLE review (id serial PRIMARY KEY, product_id int NOT NULL, author text NOT NULL, email text, text text NOT NULL, stars int NOT NULL, written_at timestamptz NOT NULL DEFAULT now());
CREATE TABLE booking (id serial PRIMARY KEY, sailing_id int NOT NULL, name text NOT NULL, email text NOT NULL, phone text, seats int NOT NULL, booked_at timestamptz NOT NULL DEFAULT now());
CREATE TABLE signup (id serial PRIMARY KEY, email text NOT NULL UNIQUE, signed_at timestamptz NOT NULL DEFAULT now());
CREATE TABLE appointment (id serial PRIMARY KEY, owner_name text NOT NULL, email text NOT NULL, phone text NOT NULL, animal text NOT NULL, complaint text NOT NULL, at timestamptz NOT NULL, made_at timestamptz NOT NULL DEFAULT now());
CREATE TABLE session (id text PRIMARY KEY, editor_id int NOT NULL, started_at timestamptz NOT NULL DEFAULT now());
CREATE TABLE page_cache (path text PRIMARY KEY, html text NOT NULL, made_at timestamptz NOT NULL DEFAULT now());
CREATE TABLE search_word (word text NOT NULL, page_id int NOT NULL, PRIMARY KEY (word, page_id));
CREATE INDEX purchase_line_purchase ON purchase_line (purchase_id);
CREATE INDEX review_product ON review (product_id);
CREATE VIEW bestseller AS SELECT product_id, sum(quantity) AS sold FROM purchase_line GROUP BY product_id;
`;
