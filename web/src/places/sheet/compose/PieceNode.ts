import type { EditorConfig, LexicalNode } from 'lexical';
import { WholeNode, type SerializedWhole } from './WholeNode';

/** A link, or the bullet of a list. */
export class PieceNode extends WholeNode {
  static getType() {
    return 'piece';
  }

  static clone(node: PieceNode) {
    return new PieceNode(node.__source, node.__text, node.__key);
  }

  static importJSON(json: SerializedWhole) {
    return $piece(json.source, json.text);
  }

  createDOM(config: EditorConfig) {
    const dom = super.createDOM(config);
    dom.className = this.isLink() ? 'linkpiece' : 'bullet';
    return dom;
  }

  isLink() {
    return this.getSource().startsWith('[');
  }
}

/** Makes a piece of its source, with what is shown for it. */
export const $piece = (source: string, label: string): PieceNode =>
  new PieceNode(source, label).setMode('token');

export const $isPiece = (node: LexicalNode | null | undefined): node is PieceNode =>
  node instanceof PieceNode;
