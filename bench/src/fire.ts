import { ended, visit } from '@tessarion/demo';
import pg from 'pg';
import { seconds } from './installation.js';
import { type Figure, figure, installShop, withInstallation } from './workloads.js';

const PUSHES = Number(process.env.BENCH_PUSHES ?? 200);
const SIZES = [1, 100, 5000] as const;
const ORDERS_A_SECOND = 50;
const PRODUCTS = 6000;
/** Every so many pushes a product goes and another one comes. */
const TURNOVER = 10;

/** Pushes in a row, while visitors write straight into the shop's database: what they wait for a statement, and what stays. */
export const underFire = (): Promise<Figure> =>
  withInstallation(async (on) => {
    await installShop(on);
    const { databases } = await on.client.call('environmentShow', { params: { site: 'shop', environment: 'staging' } });
    const onCopy = new pg.Client({ ...on.server, database: databases[0] as string });
    await onCopy.connect();
    const live = new pg.Pool({ ...on.server, database: 'shop_live', max: 20 });
    const visitors = new Visitors(live);
    visitors.begin();
    const states = new Map<string, number>();
    let kept = 0;
    const took = await seconds(async () => {
      for (let i = 0; i < PUSHES; i++) {
        const rows = SIZES[i % SIZES.length] as number;
        await onCopy.query('UPDATE product SET price = price + 1 WHERE id <= $1', [rows]);
        if (i % TURNOVER === TURNOVER - 1) {
          await onCopy.query('DELETE FROM product WHERE id = $1', [PRODUCTS - i]);
          await onCopy.query(
            "INSERT INTO product (slug, title, description, price, stock) VALUES ($1, 'New', '', 1, 1000)",
            [`new-${i}`],
          );
        }
        const { id } = await on.client.call('forecastCreate', {
          body: { from: 'shop/staging', onto: 'shop/live', wishes: { rest: 'destination' } },
        });
        let forecast = await on.client.call('forecastShow', { params: { id } });
        while (forecast.state === 'computing') {
          await new Promise((resolve) => setTimeout(resolve, 20));
          forecast = await on.client.call('forecastShow', { params: { id } });
        }
        kept += forecast.kept.filter((one) => one.kind === 'product').reduce((sum, one) => sum + one.count, 0);
        const transfer = await on.client.call('pushCreate', { body: { forecast: id, confirm: 'shop/live' } });
        await ended(on.client, transfer).catch(() => undefined);
        const { state, failure } = await on.client.call('transferShow', { params: { id: transfer.id } });
        const name = failure ? `${state} (${failure.code})` : state;
        states.set(name, (states.get(name) ?? 0) + 1);
      }
    });
    await visitors.end();
    const [found] = (
      await live.query(
        'SELECT (SELECT count(*) FROM purchase)::int AS orders, (SELECT sum(1000 - stock) FROM product)::int AS sold',
      )
    ).rows as { orders: number; sold: number }[];
    const answer = await visit(on.gatewayPort, 'shop.localhost', '/');
    await Promise.all([onCopy.end(), live.end()]);
    const { done, failed, longest } = visitors;
    return figure(
      'under-fire',
      took,
      null,
      null,
      'all orders and stock counts right, longest statement ≤ 250 ms',
      `${PUSHES} pushes: ${[...states].map(([state, count]) => `${count} ${state}`).join(', ')}; ${done} orders, ${failed} failed, ${done - (found?.orders ?? 0)} lost, stock off by ${done - (found?.sold ?? 0)}; products that stayed since they were sold: ${kept}; longest statement ${longest.toFixed(0)} ms; shop answers ${answer.status}`,
    );
  });

/** Orders as the shop takes them, each in a transaction of its own. */
class Visitors {
  done = 0;
  failed = 0;
  longest = 0;
  #timer: ReturnType<typeof setInterval> | undefined;
  readonly #open = new Set<Promise<void>>();

  constructor(readonly pool: pg.Pool) {}

  begin(): void {
    let turn = 0;
    this.#timer = setInterval(() => {
      const one = this.#order(1 + (turn++ % PRODUCTS)).finally(() => this.#open.delete(one));
      this.#open.add(one);
    }, 1000 / ORDERS_A_SECOND);
  }

  async end(): Promise<void> {
    clearInterval(this.#timer);
    await Promise.all(this.#open);
  }

  async #order(product: number): Promise<void> {
    const client = await this.pool.connect();
    const timed = async (sql: string, values: unknown[] = []): Promise<pg.QueryResult> => {
      const start = performance.now();
      const result = await client.query(sql, values);
      this.longest = Math.max(this.longest, performance.now() - start);
      return result;
    };
    try {
      await timed('BEGIN');
      const sold = await timed('UPDATE product SET stock = stock - 1 WHERE id = $1', [product]);
      if (sold.rowCount === 0) {
        await timed('ROLLBACK');
        return;
      }
      const customer = await timed(
        "INSERT INTO customer (name, email) VALUES ('Aud', 'aud@post.example') RETURNING id",
      );
      const purchase = await timed(
        "INSERT INTO purchase (customer_id, total, payment_mode) VALUES ($1, 10, 'live') RETURNING id",
        [customer.rows[0].id],
      );
      await timed('INSERT INTO purchase_line (purchase_id, product_id, quantity, price) VALUES ($1, $2, 1, 10)', [
        purchase.rows[0].id,
        product,
      ]);
      await timed('COMMIT');
      this.done++;
    } catch {
      this.failed++;
      await client.query('ROLLBACK').catch(() => undefined);
    } finally {
      client.release();
    }
  }
}
