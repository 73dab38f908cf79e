// Parses a PowerShell script from standard input with the grammar in a folder, and tells where it is wrong.
const { Parser, Language } = require(process.argv[2] + '/tree-sitter.js');
const fs = require('fs');
(async () => {
  await Parser.init({ locateFile: (f) => process.argv[2] + '/' + f });
  const lang = await Language.load(process.argv[2] + '/tree-sitter-powershell.wasm');
  const p = new Parser(); p.setLanguage(lang);
  const text = fs.readFileSync(0, 'utf8');
  const tree = p.parse(text);
  const bad = [];
  const walk = n => { if (n.type === 'ERROR' || n.isMissing) bad.push(n.startPosition.row + 1 + ': ' + n.type + ' ' + n.text.slice(0, 60)); for (let i = 0; i < n.childCount; i++) walk(n.child(i)); };
  walk(tree.rootNode);
  console.log(bad.length ? bad.join('\n') : 'right');
  process.exit(bad.length ? 1 : 0);
})();
