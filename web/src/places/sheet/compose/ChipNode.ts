import type { EditorConfig, LexicalNode } from 'lexical';
import { WholeNode, type SerializedWhole } from './WholeNode';

/** A formula in a text. */
export class ChipNode extends WholeNode {
  static getType() {
    return 'chip';
  }

  static clone(node: ChipNode) {
    return new ChipNode(node.__source, node.__text, node.__key);
  }

  static importJSON(json: SerializedWhole) {
    return $chip(json.source, json.text);
  }

  createDOM(config: EditorConfig) {
    const dom = super.createDOM(config);
    dom.className = 'chip';
    dom.dataset.formula = this.__source;
    return dom;
  }

  getFormula() {
    return this.getSource();
  }
}

/** Makes a chip. */
export const $chip = (formula: string, label: string): ChipNode =>
  new ChipNode(formula, label).setMode('token');

export const $isChip = (node: LexicalNode | null | undefined): node is ChipNode => node instanceof ChipNode;
