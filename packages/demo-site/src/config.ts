import { readFileSync } from 'node:fs';
import { join } from 'node:path';

/** Where a site keeps its settings: one of three formats, as sites in the field do. */
export type ConfigFormat = 'env' | 'ini' | 'json';

export interface SiteConfig {
  readonly baseUrl: string;
  readonly database: {
    readonly host: string;
    readonly port: number;
    readonly name: string;
    readonly user: string;
    readonly password: string;
  };
  readonly mailMode: 'send' | 'catch';
  readonly paymentMode: 'live' | 'test';
  readonly signingKey: string;
  readonly mapKey: string;
}

const FILES: Record<ConfigFormat, string> = {
  env: 'config/site.env',
  ini: 'config/site.ini',
  json: 'config/site.json',
};

/** Reads a site's settings, whichever file it has. @throws when it has none */
export function readConfig(root: string): SiteConfig {
  for (const [format, file] of Object.entries(FILES) as [ConfigFormat, string][]) {
    let text: string;
    try {
      text = readFileSync(join(root, file), 'utf8');
    } catch {
      continue;
    }
    const value = format === 'json' ? fromJson(text) : fromLines(text, format);
    return {
      baseUrl: value('site.base_url'),
      database: {
        host: value('database.host'),
        port: Number(value('database.port')),
        name: value('database.name'),
        user: value('database.user'),
        password: value('database.password'),
      },
      mailMode: value('mail.mode') as SiteConfig['mailMode'],
      paymentMode: value('payment.mode') as SiteConfig['paymentMode'],
      signingKey: value('site.signing_key'),
      mapKey: value('site.map_key'),
    };
  }
  throw new Error(`no settings file in ${root}`);
}

const unquote = (text: string): string => (/^".*"$/.test(text) ? text.slice(1, -1).replace(/\\(.)/g, '$1') : text);

function fromLines(text: string, format: 'env' | 'ini'): (key: string) => string {
  const values = new Map<string, string>();
  let section = '';
  for (const line of text.split('\n')) {
    const header = /^\[(\w+)\]$/.exec(line.trim());
    if (header) section = header[1] as string;
    const entry = /^\s*(\w+)\s*=\s*(.*?)\s*$/.exec(line);
    if (entry)
      values.set(
        format === 'env' ? (entry[1] as string).toLowerCase() : `${section}.${entry[1]}`,
        unquote(entry[2] as string),
      );
  }
  return (key) => values.get(format === 'env' ? key.replace('.', '_') : key) ?? '';
}

function fromJson(text: string): (key: string) => string {
  const document = JSON.parse(text) as Record<string, Record<string, unknown>>;
  return (key) => {
    const [section, name] = key.split('.') as [string, string];
    return String(document[section]?.[name] ?? '');
  };
}

/** Writes a settings file in a format. */
export function writeConfig(config: SiteConfig, format: ConfigFormat): { file: string; text: string } {
  const { baseUrl, database, mailMode, paymentMode, signingKey, mapKey } = config;
  const sections = {
    site: { base_url: baseUrl, signing_key: signingKey, map_key: mapKey },
    database: {
      host: database.host,
      port: database.port,
      name: database.name,
      user: database.user,
      password: database.password,
    },
    mail: { mode: mailMode },
    payment: { mode: paymentMode },
  };
  if (format === 'json') return { file: FILES.json, text: `${JSON.stringify(sections, null, 2)}\n` };
  const blocks = Object.entries(sections).map(([section, values]) => {
    const lines = Object.entries(values).map(([key, value]) =>
      format === 'env' ? `${`${section}_${key}`.toUpperCase()}=${value}` : `${key} = ${value}`,
    );
    return format === 'env' ? lines.join('\n') : `[${section}]\n${lines.join('\n')}`;
  });
  return {
    file: FILES[format],
    text: `${format === 'env' ? '# Settings of this site' : '; Settings of this site'}\n${blocks.join('\n\n')}\n`,
  };
}
