// Drives the console's page as its users do, in a real browser: drive.mjs URL CODE SITE NODE_MODULES.
// Each step says what it shows; the first that fails ends the run with a picture's worth of words.
import { createRequire } from 'node:module';
import { readFileSync, writeFileSync, mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';

const [, , url, code, site, modules] = process.argv;
const require = createRequire(join(modules, 'package.json'));
const { chromium } = require('playwright-core');
const axe = readFileSync(require.resolve('axe-core/axe.min.js'), 'utf8');

const profile = mkdtempSync(join(tmpdir(), 'zunth-browser-'));
const context = await chromium.launchPersistentContext(profile, {
  executablePath: '/usr/bin/chromium',
  viewport: { width: 1280, height: 800 },
  bypassCSP: true, // for axe alone; the page's own policy is tested by what it loads
  args: [
    '--no-sandbox', '--disable-gpu', '--disable-quic', '--no-first-run', '--disable-background-networking',
    '--disable-component-update', '--disable-sync',
  ],
});
context.setDefaultTimeout(30_000);
const page = context.pages()[0] ?? (await context.newPage());
const problems = [];
const elsewhere = [];
page.on('pageerror', (error) => problems.push(`the page failed: ${error.message}`));
page.on('request', (request) => {
  if (!request.url().startsWith(url) && !request.url().startsWith('data:') && !request.url().startsWith('blob:')) elsewhere.push(request.url());
});

let isFailed = false;
async function step(what, work) {
  const begun = Date.now();
  try {
    await work();
    console.log(`ok ${what} (${Date.now() - begun} ms)`);
  } catch (error) {
    isFailed = true;
    console.log(`FAILED ${what}: ${error.message}\n--- the page says:\n${(await page.locator('body').innerText()).slice(0, 2_000)}`);
    throw error;
  }
}
const expect = (is, what) => {
  if (!is) throw new Error(what);
};
const go = (path) => page.goto(url + path);
const value = () => page.locator('.big .value');

/** What axe finds wrong, on the page as it is. */
async function accessible(name) {
  await page.evaluate(axe);
  const { violations } = await page.evaluate(() => globalThis.axe.run(document, { runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa'] }));
  expect(violations.length === 0, `${name}: ${violations.map((one) => `${one.id} at ${one.nodes.map((node) => node.target.join(' ')).slice(0, 3).join(', ')}`).join('; ')}`);
}

try {
  await step('a guest sees how it is', async () => {
    let octets = 0;
    const count = (response) => (octets += Number(response.headers()['content-length'] ?? 0));
    page.on('response', count);
    await go('/');
    await page.getByText('filter-DF1').waitFor();
    page.off('response', count);
    expect(octets > 50_000 && octets < 400_000, `the first load is ${octets} octets`);
    await page.getByText('Fernhollow trout hatchery').first().waitFor();
    await page.getByText('filter-DF1').waitFor();
    await accessible('overview');
  });
  await step('a node is found by a key and a few letters, and its value changes', async () => {
    await page.keyboard.press('/');
    await page.getByRole('combobox', { name: /Find a node/ }).fill('weight feed');
    await page.getByRole('option').filter({ hasText: 'Hatchery/Feed/weight' }).first().waitFor();
    await page.keyboard.press('Enter');
    await page.getByRole('heading', { name: 'weight' }).waitFor();
    await value().waitFor();
    const first = await value().innerText();
    await page.waitForFunction((before) => document.querySelector('.big .value').textContent !== before, first);
    await page.locator('.trend canvas').waitFor();
    await accessible('a variable');
  });
  await step('the plant unfolds, and each line shows its value', async () => {
    await page.getByRole('link', { name: 'Plant', exact: true }).click();
    for (const name of ['Hatchery', 'Intake', 'DF1']) await page.getByRole('button', { name: `Unfold: ${name}`, exact: true }).first().click();
    const line = page.getByRole('treeitem').filter({ hasText: 'serial' }).first();
    await line.getByText('FH-DF').waitFor();
    await accessible('the plant');
    await page.getByText('Drawn', { exact: true }).click();
    await page.waitForFunction(() => document.querySelector('.drawing img')?.naturalWidth > 500);
    await page.getByText('Types', { exact: true }).click();
    await page.waitForFunction(() => document.querySelector('.drawing img[src*="86"]')?.naturalWidth > 200);
    await accessible('the plant, drawn');
  });
  await step('what is written reaches the device', async () => {
    await go('/node/Hatchery%2FIntake%2FDF1%2FspeedGoal');
    await page.getByRole('textbox', { name: 'Write this value' }).fill('35');
    await page.getByRole('button', { name: 'Write', exact: true }).click();
    await page.getByText('Written').waitFor();
    await page.waitForFunction(() => document.querySelector('.big .value')?.textContent === '35.00');
    await page.getByRole('button', { name: 'Where it comes from' }).click();
    await page.getByText('filter-DF1 (modbus-tcp', { exact: false }).waitFor();
  });
  await step('a refusal says why and what next', async () => {
    await go('/node/Hatchery%2FHall1%2FTank%20A1%2FoxygenGoal');
    await page.getByRole('textbox', { name: 'Write this value' }).fill('99');
    await page.getByRole('button', { name: 'Write', exact: true }).click();
    await page.getByText('(BadOutOfRange)').waitFor();
  });
  await step('a method is called after a question', async () => {
    await go('/node/Hatchery%2FIntake%2FDF1%2Fwash');
    await page.getByRole('textbox', { name: 'seconds' }).fill('2');
    await page.getByRole('button', { name: 'Call wash' }).click();
    await page.getByRole('button', { name: 'Call', exact: true }).click();
    await page.getByText('Answered: Good').waitFor();
    await accessible('a method');
  });
  await step('values are watched, and saved as a list', async () => {
    await go('/watch');
    for (const words of ['oxygen A1', 'DF1 pressure']) {
      await page.getByRole('combobox', { name: 'Add a node …' }).fill(words);
      await page.getByRole('option').first().click();
    }
    await page.getByRole('row').nth(2).waitFor();
    await accessible('the list');
    await page.getByRole('button', { name: /^List:/ }).click();
    await page.getByRole('menuitem', { name: 'Save by a name' }).click();
    await page.getByLabel('Name', { exact: false }).last().fill('Morning round');
    await page.getByRole('button', { name: 'Save', exact: true }).click();
    await page.getByRole('button', { name: 'List: Morning round' }).waitFor();
    const kept = () => readFileSync(join(site, 'console/lists/Morning round.json'), 'utf8');
    expect(kept().includes('oxygen'), 'the list is no file of the site');
    // What is changed of it is told, and saved or dropped as a whole.
    const changed = page.getByText('changed here, not saved');
    await page.getByRole('button', { name: /^Remove: .*oxygen/ }).click();
    await changed.waitFor();
    await page.reload();
    await changed.waitFor();
    await page.getByRole('button', { name: 'Drop the draft' }).click();
    await changed.waitFor({ state: 'detached' });
    await page.getByRole('button', { name: /^Remove: .*oxygen/ }).click();
    expect(kept().includes('oxygen'), 'the list is saved before anybody saves it');
    // Another person's version is not written over.
    const theirs = kept().replace('DF1/pressure', 'DF2/pressure');
    writeFileSync(join(site, 'console/lists/Morning round.json'), theirs);
    await page.getByRole('button', { name: 'Save', exact: true }).click();
    await page.getByText('(BadInvalidState)').waitFor();
    expect(kept() === theirs, "somebody else's list is written over");
    await page.getByText('Somebody else has saved this list').waitFor();
    await page.getByRole('button', { name: 'Take theirs' }).click();
    await page.getByRole('row').filter({ hasText: 'DF2' }).waitFor();
    await changed.waitFor({ state: 'detached' });
    // One's own stays as it was saved, and at no moment turns into the one before.
    await page.getByRole('button', { name: /^Remove: .*oxygen|^Remove: .*DF2/ }).first().click();
    await changed.waitFor();
    await page.evaluate(() => {
      globalThis.mostRows = 0;
      const count = () => (globalThis.mostRows = Math.max(globalThis.mostRows, document.querySelectorAll('[role=row]').length));
      new MutationObserver(count).observe(document.body, { childList: true, subtree: true });
    });
    const rows = await page.getByRole('row').count();
    await page.getByRole('button', { name: 'Save', exact: true }).click();
    await changed.waitFor({ state: 'detached' });
    await page.waitForLoadState('networkidle');
    expect((await page.evaluate(() => globalThis.mostRows)) <= rows, 'the list as it was before came back');
  });
  await step('a trend shows past and present', async () => {
    await go('/trend?node=Hatchery%2FHall1%2FTank%20A2%2Foxygen&node=Hatchery%2FIntake%2FDF1%2Fpressure');
    await page.locator('.trend canvas').waitFor();
    await page.getByText('24 h', { exact: true }).click();
    // A remark on the moment that is pointed at stands below the picture.
    const box = await page.locator('.trend canvas').boundingBox();
    await page.mouse.click(box.x + box.width / 2, box.y + box.height / 2);
    await page.getByPlaceholder('What should others know?').fill('the blower was off');
    await page.getByRole('button', { name: 'Remark', exact: true }).click();
    await page.getByRole('row').filter({ hasText: 'the blower was off' }).waitFor();
    // The same by keyboard alone, and so is what is looked at.
    for (const name of ['Closer', 'Earlier', 'Later', 'Wider']) {
      await page.getByRole('button', { name, exact: true }).focus();
      await page.keyboard.press('Enter');
    }
    await page.getByRole('button', { name: 'Back to live' }).waitFor();
    await page.getByRole('button', { name: 'Remark on a moment' }).focus();
    await page.keyboard.press('Enter');
    await page.getByLabel('At', { exact: true }).waitFor();
    await page.getByPlaceholder('What should others know?').focus();
    await page.keyboard.type('net cleaned');
    await page.keyboard.press('Enter');
    await page.getByRole('row').filter({ hasText: 'net cleaned' }).waitFor();
    await accessible('a trend');
  });
  await step('a page for operators is made, and works at the size of a phone', async () => {
    await go('/pages');
    await page.getByRole('button', { name: 'New page' }).first().click();
    await page.getByLabel('Name of the page').fill('Hall 1');
    for (const [words, path] of [['oxygen A1', 'Hall1/Tank A1/oxygen'], ['air A1', 'Hall1/Tank A1/air'], ['wash DF1', 'Intake/DF1/wash']]) {
      await page.getByRole('combobox', { name: 'Add a node …' }).fill(words);
      await page.getByRole('option').filter({ hasText: path }).first().click();
    }
    // Before it is saved it stays in this browser.
    page.once('dialog', (dialog) => dialog.accept());
    await page.reload();
    await page.getByRole('button', { name: 'Go on with the new page' }).first().click();
    await page.getByRole('button', { name: 'Save', exact: true }).click();
    await page.getByRole('heading', { name: 'Hall 1' }).waitFor();
    await accessible('an operator page');
    await page.getByRole('button', { name: 'Change' }).click();
    await page.getByRole('button', { name: 'Heading' }).click();
    const parts = page.locator('.board > [role=button]');
    const titles = () => parts.evaluateAll((all) => all.map((one) => one.ariaLabel));
    const [first, second] = await titles();
    await parts.nth(0).dragTo(parts.nth(1));
    const moved = await titles();
    expect(moved[0] === second && moved[1] === first, `dragged, the widgets are ${moved}`);
    const operatedBy = page.locator('input').and(page.getByLabel('Operated by'));
    await operatedBy.fill('Supervisor');
    await page.keyboard.press('Enter');
    await page.getByRole('button', { name: 'Save', exact: true }).click();
    await page.getByText('only to look at').waitFor();
    expect(await page.getByRole('switch', { name: 'Tank A1 air' }).isDisabled(), 'somebody else operates the page');
    await page.getByRole('button', { name: 'Change' }).click();
    await operatedBy.fill('Engineer');
    await page.keyboard.press('Enter');
    await page.getByRole('button', { name: 'Save', exact: true }).click();
    await page.getByText('only to look at').waitFor({ state: 'detached' });
    await page.setViewportSize({ width: 390, height: 844 });
    const width = await page.locator('.board > .widget').first().evaluate((widget) => widget.getBoundingClientRect().width);
    expect(width > 150, `a widget on a phone is ${width} px wide`);
    const air = page.getByRole('switch', { name: 'Tank A1 air' });
    const before = await air.isChecked();
    await air.focus();
    await page.keyboard.press('Space');
    await page.waitForFunction((was) => document.querySelector('[role=switch][aria-label="Tank A1 air"]').checked !== was, before);
    const wide = await page.evaluate(() => Math.max(document.querySelector('.main').scrollWidth - document.querySelector('.main').clientWidth, document.querySelector('.main').getBoundingClientRect().right - innerWidth));
    expect(wide <= 0, `the page is ${wide} pixels wider than a phone`);
    await page.setViewportSize({ width: 1280, height: 800 });
  });
  await step('an alarm is acknowledged and shelved', async () => {
    await go('/alarms');
    // One that comes once: a filter that clogs more and more comes again, as another occurrence of its own.
    const row = page.getByRole('row').filter({ hasText: 'to acknowledge', hasNotText: 'clogged' }).first();
    await row.waitFor({ timeout: 60_000 });
    await accessible('alarms');
    const name = await row.getByRole('link').innerText();
    const mine = page.getByRole('row').filter({ has: page.getByRole('link', { name, exact: true }) }).first();
    const waiting = page.getByRole('row').filter({ hasText: name }).filter({ hasText: 'to acknowledge' });
    // It may come again in the moment in which it is acknowledged: then it is to be acknowledged again.
    for (let round = 0; round < 5; ++round) {
      await mine.getByRole('checkbox').check();
      await page.getByLabel('A comment for others').fill('seen from the console');
      await page.getByRole('button', { name: 'Acknowledge' }).click();
      if (await waiting.waitFor({ state: 'detached', timeout: 6_000 }).then(() => true, () => false)) break;
      expect(round < 4, 'the alarm stays unacknowledged');
    }
  });
  await step('a question is answered', async () => {
    // A slow machine may miss the device's time-out; what a user would do then is to try again.
    const write = async (node, value) => {
      for (let round = 0; round < 5; ++round) {
        const status = await page.evaluate(
          async ([node, value]) => {
            const me = await (await fetch('/api/me')).json();
            const answer = await fetch('/api/write', {
              method: 'POST',
              headers: { 'Content-Type': 'application/json', 'X-Zunth-Proof': me.proof },
              body: JSON.stringify({ values: [{ node, value }] }),
            });
            return answer.ok ? (await answer.json()).outcomes[0].status : answer.status;
          },
          [node, value],
        );
        if (status === 'Good') return;
        expect(round < 4, `writing ${node} ends in ${status}`);
      }
    };
    await write('Hatchery/Hall1/Feeder/locked', true);
    const asked = page.getByRole('row').filter({ hasText: 'Is somebody still at the feeder?' });
    await asked.getByRole('checkbox').check();
    await accessible('a question');
    await page.getByRole('button', { name: 'No, it may spread' }).click();
    await asked.waitFor({ state: 'detached' });
    await write('Hatchery/Hall1/Feeder/locked', false);
  });
  await step('what happened is searched', async () => {
    await page.getByText('What happened').click();
    await page.getByPlaceholder('Filter').fill('device');
    await page.getByRole('row').filter({ hasText: /device/i }).first().waitFor();
    await accessible('past events');
  });
  await step('the first administrator is made with the code', async () => {
    await go('/access');
    await page.getByRole('link', { name: 'Make the first administrator' }).click();
    await page.getByLabel('Code').fill(code);
    await page.getByLabel('Name').fill('ada');
    await page.getByLabel(/^Password( \*)?$/).fill('brook trout 7');
    await page.getByLabel(/^Password once more/).fill('brook trout 7');
    await accessible('the first login');
    await page.getByRole('button', { name: 'Make administrator' }).click();
    await page.getByRole('button', { name: 'ada' }).waitFor();
    await go('/access');
    await page.getByRole('table').nth(1).getByText('ada').waitFor();
    await accessible('access');
    const print = await page.locator('.card .octets').first().innerText();
    await page.getByRole('button', { name: 'Renew' }).click();
    await page.getByLabel('Valid for days').fill('90');
    await page.getByRole('dialog').getByRole('button', { name: 'Renew' }).click();
    await page.getByText('Done: new connections').waitFor();
    await page.waitForFunction((before) => document.querySelector('.card .octets').textContent !== before, print);
    await go('/record');
    await page.getByText('user changed').first().waitFor();
    await accessible('the record');
  });
  await step('what the folder says is seen, and applied', async () => {
    writeFileSync(join(site, 'model/pond.yaml'), 'namespace: http://fernhollow.example/hatchery\nobjects:\n  Pond: {depth: Double m}\n');
    await go('/changes');
    await page.getByText('Pond/depth').first().waitFor();
    await accessible('changes');
    await page.getByRole('button', { name: 'Apply' }).click();
    await page.getByText(/Applied: \d+ added/).waitFor();
    await go('/node/Pond%2Fdepth');
    await page.getByRole('heading', { name: 'depth' }).waitFor();
  });
  await step('a file is edited as a draft, compared, checked and applied', async () => {
    await go('/files');
    await page.getByRole('button', { name: 'model/pond.yaml' }).click();
    const text = page.getByRole('textbox', { name: 'Text' });
    await page.getByRole('heading', { name: 'model/pond.yaml' }).waitFor();
    await text.fill('namespace: http://fernhollow.example/hatchery\nobjects:\n  Pond: {depth: Double m, ice: Duoble cm}\n');
    await page.getByRole('status').filter({ hasText: 'draft' }).waitFor();
    await page.getByRole('button', { name: 'Check' }).click();
    await page.getByText("Duoble").first().waitFor();
    await page.getByRole('button', { name: 'model/pond.yaml:3' }).click();
    await accessible('files with mistakes');
    await text.fill('namespace: http://fernhollow.example/hatchery\nobjects:\n  Pond: {depth: Double m, ice: Double cm}\n');
    await page.getByText('Difference', { exact: true }).click();
    await page.getByText(/^\+ {2}Pond.*ice: Double cm/).waitFor();
    await accessible('a difference');
    await page.getByRole('status').filter({ hasText: 'draft' }).waitFor();
    await page.getByPlaceholder('Why?').fill('ice in winter');
    await page.getByRole('button', { name: 'Apply 1 draft' }).click();
    await page.getByText(/Applied: \d+ added/).waitFor();
    expect(readFileSync(join(site, 'model/pond.yaml'), 'utf8').includes('ice: Double cm'), 'the file is as it was');
    await go('/node/Pond%2Fice');
    await page.getByRole('heading', { name: 'ice' }).waitFor();
  });
  await step('a table takes what comes out of a spreadsheet', async () => {
    await go('/files');
    await page.getByLabel('New file').fill('model/pumps.csv');
    await page.getByRole('button', { name: 'New file' }).click();
    await page.getByRole('heading', { name: 'model/pumps.csv' }).waitFor();
    await page.getByLabel('Column 1').evaluate((cell) => {
      const data = new DataTransfer();
      data.setData('text/plain', 'path\ttype\tunit\tabout\r\nPumps/P1/speed\tDouble\tHz\t"fast, and\nloud"\r\nPumps/P2/speed\tDuoble\tHz\t\r\n');
      cell.dispatchEvent(new ClipboardEvent('paste', { clipboardData: data, bubbles: true, cancelable: true }));
    });
    await page.getByLabel('type 2', { exact: true }).fill('Double');
    await page.getByLabel('type 2', { exact: true }).press('Enter');
    await accessible('a table of points');
    await page.getByRole('button', { name: 'Add a row' }).click();
    await page.getByLabel('path 3', { exact: true }).fill('Pumps/P3/speed');
    await page.getByLabel('type 3', { exact: true }).fill('Double');
    await page.getByRole('button', { name: 'Remove: 1', exact: true }).click();
    await page.getByRole('status').filter({ hasText: 'draft' }).waitFor();
    await page.getByText('Text', { exact: true }).click();
    expect((await page.getByRole('textbox', { name: 'Text' }).inputValue()) === 'path,type,unit,about\nPumps/P2/speed,Double,Hz,\nPumps/P3/speed,Double,,\n', 'the table is another than what was put into it');
    await page.getByRole('button', { name: 'Check' }).click();
    await page.getByText('The site is sound as the drafts have it.').waitFor();
    await page.getByRole('button', { name: 'Drop all' }).click();
  });
  await step('bindings are edited beside what they would show', async () => {
    await page.getByRole('button', { name: 'bindings/intake.yaml' }).click();
    await page.getByText('Text and values').click();
    const row = page.getByRole('row').filter({ hasText: 'Hatchery/Intake/DF2/serial' });
    await row.filter({ hasText: 'FH-DF-' }).waitFor();
    await accessible('bindings with their values');
    const text = page.getByRole('textbox', { name: 'Text' });
    const before = await text.inputValue();
    await text.fill(before.replace(/filter-\{DF\}\/serial/, 'filter-DF1/serial'));
    await row.filter({ hasText: 'filter-DF1/serial' }).waitFor();
    await text.fill(before.replace(/filter-\{DF\}\/serial/, 'filter-DF9/serial'));
    await page.getByText(/bindings\/intake.yaml:\d+: /).waitFor();
    await page.getByRole('button', { name: 'Drop the draft' }).click();
    await row.filter({ hasText: 'filter-DF2/serial' }).waitFor();
  });
  await step('over a slow link nothing that is changed of a page is lost', async () => {
    const link = await context.newCDPSession(page);
    await link.send('Network.enable');
    await link.send('Network.emulateNetworkConditions', { offline: false, latency: 300, downloadThroughput: 200 << 10, uploadThroughput: 50 << 10 });
    await go('/pages/Hall%201');
    await page.getByRole('button', { name: 'Change' }).click();
    await page.getByRole('button', { name: 'Heading' }).first().click();
    await page.getByText('draft, not saved').waitFor();
    await page.getByRole('link', { name: 'Overview' }).first().click();
    await page.getByTitle('1 edited and not applied').waitFor();
    await page.getByRole('link', { name: 'Pages' }).click();
    await page.getByRole('link', { name: /^Hall 1/ }).click();
    await page.getByText('draft, not saved').waitFor();
    const count = () => page.locator('.board > *').count();
    const saved = await count();
    await page.getByRole('button', { name: 'Change' }).click();
    await page.getByRole('button', { name: 'Drop the draft' }).waitFor();
    expect((await count()) === saved + 1, 'what was changed is not there');
    await page.getByRole('button', { name: 'Drop the draft' }).click();
    await page.getByTitle('1 edited and not applied').waitFor({ state: 'detached' });
    expect((await count()) === saved, 'the draft is still there');
    await link.send('Network.emulateNetworkConditions', { offline: false, latency: 0, downloadThroughput: -1, uploadThroughput: -1 });
  });
  await step('devices show their health and what goes over the line', async () => {
    await go('/devices');
    await page.getByRole('link', { name: 'filter-DF1' }).click();
    await page.getByRole('log').getByText('sent').first().waitFor();
    await accessible('a device');
  });
  await step('the record is looked through by who, what and node', async () => {
    await go('/record?like=speedGoal');
    await page.getByRole('row').filter({ hasText: 'speedGoal' }).first().waitFor();
    await page.locator('input[aria-label="What"]').click();
    await page.getByRole('option').first().click();
    await page.getByRole('row').filter({ hasText: 'speedGoal' }).first().waitFor();
    await go('/record?who=nobody');
    await page.getByText('Nothing of the kind is on record.').waitFor();
    await go('/record?part=log');
    await page.locator('input[aria-label="At least"]').click();
    await page.getByRole('option', { name: 'errors alone' }).click();
    await accessible('the log, filtered');
  });
  await step('a device is looked for, and becomes drafts', async () => {
    await go('/devices');
    await page.getByRole('link', { name: 'filter-DF2' }).click();
    const address = await page.getByText(/127\.0\.0\.1:\d+/).first().innerText();
    const port = address.match(/:(\d+)/)[1];
    await page.getByRole('navigation').getByRole('link', { name: 'Devices' }).first().click();
    await page.getByRole('link', { name: 'Look for a device' }).click();
    await page.getByLabel('port').fill(port);
    await page.getByRole('button', { name: 'Does it answer?' }).click();
    await page.getByText('answers', { exact: false }).first().waitFor();
    await page.getByLabel('One place').fill('input 0');
    await page.getByRole('button', { name: 'Read it in every way' }).click();
    await page.getByText('What looks like a measurement comes first.').waitFor();
    await page.getByRole('button', { name: 'Take' }).first().click();
    await page.getByRole('button', { name: 'Look through it' }).click();
    await page.getByRole('heading', { name: /\d+ points/ }).waitFor();
    await accessible('looking for a device');
    await page.getByRole('checkbox', { name: 'input0', exact: true }).check();
    await page.getByPlaceholder('Name of the device').fill('spare');
    await page.getByRole('button', { name: 'Make drafts of 2 points' }).click();
    await page.getByText('3 drafts are made.').waitFor();
    await page.getByRole('link', { name: 'Look at them, and apply' }).click();
    await page.getByRole('button', { name: 'devices/spare.yaml' }).waitFor();
    await page.getByRole('button', { name: 'Drop all' }).click();
    await page.getByRole('button', { name: 'devices/spare.yaml' }).waitFor({ state: 'detached' });
  });
  await step('who logs out is a guest again', async () => {
    await page.getByRole('button', { name: 'ada' }).click();
    await page.getByRole('menuitem', { name: 'Log out' }).click();
    await page.getByRole('button', { name: 'looking around' }).waitFor();
  });
  expect(problems.length === 0, problems.join('\n'));
  expect(elsewhere.length === 0, `the page asked elsewhere: ${elsewhere.join(', ')}`);
  console.log('all steps went well');
} catch (error) {
  if (!isFailed) console.log(`FAILED ${error.message}`);
  process.exitCode = 1;
} finally {
  await context.close();
  rmSync(profile, { recursive: true, force: true });
}
