import { readSetting, type SettingsFormat, toBytes, writeSetting } from '../src/index.js';
import { describe, expect, fc, it } from './support.js';

const ENV = '# A=0\nexport A=one # first\nB="two words"\nC=\'three\'\nD=\nAA=no\n';
const INI = '; top\n[mail]\nmode = send ; now\n[payment]\nmode = "live"\n';
const JSON_TEXT = '{\n  "mail": {"mode": "send", "port": 25, "on": true},\n  "list": [1]\n}\n';
const YAML = 'mail:\n  mode: send # now\n  port: 25\n';

describe('settings files', () => {
  const cases: [SettingsFormat, string, string, string, string][] = [
    ['env', ENV, 'A', 'x', ENV.replace('one', 'x')],
    ['env', ENV, 'B', 'a "b"', ENV.replace('"two words"', '"a \\"b\\""')],
    ['env', ENV, 'C', 'y z', ENV.replace("'three'", "'y z'")],
    ['env', ENV, 'D', 'http://a.example:80/', ENV.replace('D=', 'D=http://a.example:80/')],
    ['env', 'A=1', 'A', 'b c', 'A="b c"'],
    ['ini', INI, 'mail.mode', 'catch', INI.replace('send', 'catch')],
    ['ini', INI, 'payment.mode', 'test', INI.replace('"live"', '"test"')],
    ['json', JSON_TEXT, 'mail.mode', 'ü"', JSON_TEXT.replace('"send"', toBytes('"ü\\""'))],
    ['json', JSON_TEXT, 'mail.port', '26', JSON_TEXT.replace('25', '26')],
    ['json', JSON_TEXT, 'mail.on', 'false', JSON_TEXT.replace('true', 'false')],
    ['yaml', YAML, 'mail.mode', 'catch', YAML.replace('send', 'catch')],
  ];
  it.each(cases)('%s: only the value of %#', (format, before, key, value, after) =>
    expect(writeSetting(before, format, key, value)).toBe(after),
  );

  it.each([
    ['env', ENV, 'MISSING'],
    ['env', 'A=1\nA=2\n', 'A'],
    ['ini', INI, 'mode'],
    ['json', JSON_TEXT, 'mail.none'],
    ['json', JSON_TEXT, 'mail'],
    ['json', '{"a": }', 'a.b'],
  ] as [SettingsFormat, string, string][])(
    '%s %#: a key that is missing, twice there, or no single value',
    (format, text, key) => expect(() => readSetting(text, format, key)).toThrow(/missing|times|single|well-formed/),
  );

  it('reads back what was written', () => {
    const value = fc.string({ unit: 'grapheme' }).filter((text) => !/[\n\r]/.test(text) && text.trim() === text);
    for (const [format, text, key] of [
      ['env', ENV, 'B'],
      ['json', JSON_TEXT, 'mail.mode'],
      ['yaml', YAML, 'mail.mode'],
      ['env', ENV, 'A'],
    ] as [SettingsFormat, string, string][]) {
      fc.assert(
        fc.property(value, (one) => {
          expect(readSetting(writeSetting(text, format, key, one), format, key)).toBe(one);
        }),
        { numRuns: 300 },
      );
    }
  });

  it('keeps the type of a value that a token stood for', () => {
    const hidden = writeSetting(JSON_TEXT, 'json', 'mail.port', '~tsr.s.port~');
    expect(writeSetting(hidden, 'json', 'mail.port', '2525')).toBe(JSON_TEXT.replace('25', '2525'));
  });
});
