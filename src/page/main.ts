import type { BoardData, BoardsData } from '../results/board';
import { showProducts } from './products';
import { productPage } from './product';

const data = JSON.parse(document.getElementById('data')?.textContent ?? '') as BoardData | BoardsData;
if ('products' in data) {
  showProducts(data);
} else {
  document.body.prepend(...productPage(data, []));
}
