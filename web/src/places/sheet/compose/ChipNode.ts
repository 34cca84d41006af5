import {
  TextNode,
  type EditorConfig,
  type LexicalNode,
  type NodeKey,
  type SerializedTextNode,
} from 'lexical';

type SerializedChip = SerializedTextNode & { formula: string };

/** A formula in a text: one piece that is moved and deleted as a whole. */
export class ChipNode extends TextNode {
  __formula: string;

  static getType() {
    return 'chip';
  }

  static clone(node: ChipNode) {
    return new ChipNode(node.__formula, node.__text, node.__key);
  }

  static importJSON(json: SerializedChip) {
    return $chip(json.formula, json.text);
  }

  constructor(formula: string, label: string, key?: NodeKey) {
    super(label, key);
    this.__formula = formula;
  }

  exportJSON(): SerializedChip {
    return { ...super.exportJSON(), type: 'chip', version: 1, formula: this.__formula };
  }

  createDOM(config: EditorConfig) {
    const dom = super.createDOM(config);
    dom.className = 'chip';
    dom.title = this.__formula;
    dom.dataset.formula = this.__formula;
    return dom;
  }

  getFormula() {
    return this.getLatest().__formula;
  }

  isTextEntity() {
    return true;
  }

  canInsertTextBefore() {
    return false;
  }

  canInsertTextAfter() {
    return false;
  }
}

/** Makes a chip. */
export function $chip(formula: string, label: string): ChipNode {
  return new ChipNode(formula, label || formula).setMode('token');
}

export const $isChip = (node: LexicalNode | null | undefined): node is ChipNode => node instanceof ChipNode;
