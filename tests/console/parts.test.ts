// What the page works out by itself, without a browser or a service.
import assert from 'node:assert/strict';
import { test } from 'node:test';
import { ageText, csvField, levelOf, nodeHref, numberText, statusWords, valueText } from '../../apps/console/src/parts/format';
import { cellsOf, pasted, separatorOf, textOf } from '../../apps/console/src/parts/grid';
import { standing } from '../../apps/console/src/parts/watch_list';
import { fitting } from '../../apps/console/src/parts/widgets';
import type { Facts, NodeBrief } from '../../apps/console/src/types';

test("a table's text and its cells", () => {
  const rows: [string, string, string[][]][] = [
    ['', ',', []],
    ['a,b\nc,d\n', ',', [['a', 'b'], ['c', 'd']]],
    ['a,b\r\nc,d', ',', [['a', 'b'], ['c', 'd']]],
    ['"a,1","say ""hi"""\n', ',', [['a,1', 'say "hi"']]],
    ['"two\nlines";x\n', ';', [['two\nlines', 'x']]],
    ['a,,\n', ',', [['a', '', '']]],
    ['5" pipe,x\n', ',', [['5" pipe', 'x']]],
    ['a\tb\n', '\t', [['a', 'b']]],
  ];
  for (const [text, separator, cells] of rows) {
    assert.deepEqual(cellsOf(text, separator), cells, text);
    assert.deepEqual(cellsOf(textOf(cells, separator), separator), cells, text);
  }
  assert.equal(separatorOf('a;b\n1,5;2'), ';');
  assert.equal(separatorOf('alone'), ',');
});

test('what is pasted out of a spreadsheet', () => {
  const table = [['name', 'type'], ['a', 'Double'], ['b', 'Int32']];
  assert.deepEqual(pasted(table, [['x', 'y'], ['z', 'w']], 1, 0), [['name', 'type'], ['x', 'y'], ['z', 'w']]);
  assert.deepEqual(pasted(table, [['1'], ['2'], ['3']], 2, 1), [['name', 'type'], ['a', 'Double'], ['b', '1'], ['', '2'], ['', '3']]);
  assert.deepEqual(pasted(table, [['x', 'y', 'too far']], 1, 1)[1], ['a', 'x']);
  assert.deepEqual(pasted(table, [['n', 't', 'unit']], 0, 0)[0], ['n', 't', 'unit']); // the names of columns make it wider
  assert.deepEqual(table[1], ['a', 'Double']); // nothing is changed in place
});

test('how a list of watched nodes stands to the saved one', () => {
  const saved = (version: string, nodes: string[]) => ({ name: 'tanks', version, content: { nodes } });
  const list = (name: string, version: string, base: string[], nodes: string[]) => ({ name, version, base, nodes });
  const rows: [ReturnType<typeof list>, ReturnType<typeof saved> | undefined, string][] = [
    [list('', '', [], ['a']), undefined, 'new'],
    [list('tanks', '1', ['a'], ['a']), undefined, 'gone'],
    [list('tanks', '1', ['a'], ['a']), saved('1', ['a']), 'same'],
    [list('tanks', '1', ['a'], ['a', 'b']), saved('1', ['a']), 'here'],
    [list('tanks', '1', ['a', 'b'], ['b', 'a']), saved('1', ['a', 'b']), 'here'],
    [list('tanks', '1', ['a'], ['a']), saved('2', ['a', 'c']), 'there'],
    [list('tanks', '1', ['a'], ['a', 'b']), saved('2', ['a', 'b']), 'there'], // the same change twice is none
    [list('tanks', '1', ['a'], ['a', 'b']), saved('2', ['a', 'c']), 'both'],
    [list('tanks', '1', [], ['a']), saved('2', []), 'both'],
  ];
  for (const [mine, theirs, stands] of rows) assert.equal(standing(mine, theirs), stands, JSON.stringify([mine, theirs]));
});

test('numbers with as many digits as help', () => {
  const rows: [number, boolean | undefined, string][] = [
    [0, false, '0.00'], [7, undefined, '7'], [7, false, '7.00'], [8.25, undefined, '8.25'], [123.456, undefined, '123.5'],
    [0.012345, undefined, '0.0123'], [12345678.9, undefined, '1.235e+7'], [0.00001, undefined, '1.000e-5'], [-3.14159, undefined, '-3.14'],
    [NaN, undefined, 'NaN'], [Infinity, undefined, 'Infinity'],
  ];
  for (const [value, isWhole, text] of rows) assert.equal(numberText(value, isWhole), text, String(value));
});

test('values, statuses and ages in words', () => {
  const facts = (more: Partial<Facts>) => ({ kind: 'number', unit: '', isWritable: false, ...more }) as Facts;
  assert.equal(valueText(true, facts({ kind: 'boolean', whenTrue: 'open' }), null), 'open');
  assert.equal(valueText(false, null, null), 'false');
  assert.equal(valueText(1, facts({ kind: 'integer' }), 'Auto (1)'), 'Auto');
  assert.equal(valueText(null, null, 'x'), '');
  assert.equal(valueText([1, 2], null, null), '[1,2]');
  assert.equal(statusWords('BadNoCommunication'), 'no communication');
  assert.equal(levelOf('UncertainLastUsableValue'), 'doubtful');
  assert.equal(levelOf('BadTimeout'), 'bad');
  assert.equal(levelOf(null), 'good');
  for (const [ms, text] of [[-5, 'now'], [999, 'now'], [60_000, '60 s'], [600_000, '10 min'], [7_200_000, '2 h'], [200_000_000, '2 d']] as const) assert.equal(ageText(ms), text);
});

test('what a spreadsheet would take for a formula is kept from being one', () => {
  for (const [text, field] of [['=1+1', "'=1+1"], ['@x', "'@x"], ['a,b', '"a,b"'], ['say "x"', '"say ""x"""'], ['-5', '-5'], ['plain', 'plain']] as const) assert.equal(csvField(text), field);
  assert.equal(nodeHref({ path: 'A/B c', id: 'ns=2;s=x' }), '/node/A%2FB%20c');
  assert.equal(nodeHref({ path: 'ns=2;s=x', id: 'nsu=u;s=x' }), '/node/nsu%3Du%3Bs%3Dx');
});

test('the widget that fits a node', () => {
  const node = (facts?: Partial<Facts>, nodeClass = 'Variable') => ({ id: '', name: '', path: 'a/b', class: nodeClass, type: '', hasChildren: false, facts: facts && { valueRank: -1, isWritable: false, unit: '', ...facts } }) as NodeBrief;
  const rows: [string, NodeBrief, string][] = [
    ['a method', node(undefined, 'Method'), 'button'],
    ['an object', node(undefined, 'Object'), 'alarms'],
    ['a number with a range', node({ kind: 'number', range: { low: 0, high: 5 } }), 'gauge'],
    ['one without', node({ kind: 'number' }), 'number'],
    ['one that is written', node({ kind: 'number', isWritable: true }), 'setpoint'],
    ['a lamp', node({ kind: 'boolean' }), 'lamp'],
    ['a switch', node({ kind: 'boolean', isWritable: true }), 'switch'],
    ['one of some', node({ kind: 'integer', isWritable: true, members: [{ value: 0, name: 'Off' }] }), 'choice'],
    ['a row', node({ kind: 'number', valueRank: 1, range: { low: 0, high: 5 } }), 'text'],
    ['a word', node({ kind: 'text' }), 'text'],
  ];
  for (const [what, brief, kind] of rows) assert.equal(fitting(brief)[0], kind, what);
});
